# Commands that ask, driven on a terminal.

# The command on a terminal of its own, with these answers typed in turn.
typed <- function(answers, ..., folder) {
  program <- file.path(R.home("bin"), "Rscript")
  process <- processx::process$new(
    program, c(
      "--no-init-file", "--no-restore", "-e", "vetusta::cli_main()", ...
    ),
    pty = TRUE, wd = folder, env = c("current", R_LIBS = r_libs())
  )
  withr::defer(process$kill())
  text <- ""
  answered <- 0
  until <- Sys.time() + 240
  while (Sys.time() < until) {
    process$poll_io(500)
    text <- paste0(
      text, tryCatch(process$read_output(), error = function(e) "")
    )
    asked <- lengths(regmatches(text, gregexpr("\\[[^]\n]*\\] ", text)))
    if (asked > answered && answered < length(answers)) {
      answered <- answered + 1
      process$write_input(paste0(answers[answered], "\n"))
    }
    if (!process$is_alive()) break
  }
  text
}
