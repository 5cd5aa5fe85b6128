# Progress of long work: on a terminal one line that is rewritten, elsewhere a
# plain line each minute. A failure to draw it never stops the work.

# Shows the text that a function of the width returns. The line is removed when
# the environment ends.
progress_line <- function(envir,
                          every = getOption("vetusta.progress_seconds", 60)) {
  if (!is_terminal(stderr())) {
    last <- now_seconds()
    return(function(text) {
      if (now_seconds() < last + every) {
        return(invisible())
      }
      last <<- now_seconds()
      try(cat(text(Inf), "\n", file = stderr(), sep = ""), silent = TRUE)
    })
  }
  id <- cli::cli_progress_bar(
    type = "custom", total = NA, format = "{cli::pb_extra$text}",
    extra = list(text = ""), clear = TRUE, .auto_close = TRUE, .envir = envir
  )
  function(text) {
    try(
      cli::cli_progress_update(
        extra = list(text = text(cli::console_width() - 1)),
        id = id
      ),
      silent = TRUE
    )
  }
}

is_terminal <- function(connection) {
  isTRUE(tryCatch(isatty(connection), error = function(e) FALSE))
}
