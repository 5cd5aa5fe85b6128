# vetusta browse: the archive on a local page.
cli_browse <- function(arguments) {
  options <- cli_arguments(
    arguments, "browse", "",
    c(
      list(
        cli_option("port", "; by default a free one"),
        cli_option(
          "seconds", "end after so many seconds; by default never",
          metavar = "N"
        ),
        cli_option(
          "collect", "a button that refreshes the tracked queries",
          flag = TRUE
        ),
        cli_option(
          "open", "open it in the browser of this machine",
          flag = TRUE
        )
      ),
      cli_place_options()
    ),
    c("vetusta browse", "vetusta browse --archive old.sqlite --port 8080"),
    most = 0
  )
  port <- cli_number(options, "port", 0)
  seconds <- cli_number(options, "seconds", 0) %||% Inf
  what <- if (!is.null(options$archive)) options$archive else cli_desk(options)
  desk_browse(
    what, port,
    function(url) {
      cat(url, "\n", sep = "")
      flush(stdout())
      cli_say(
        if (options$collect) "for" else "reading only, for",
        " this machine alone; ",
        if (is.finite(seconds)) {
          paste("for", seconds, "seconds")
        } else {
          "until stopped with Ctrl-C"
        }
      )
      if (options$open) utils::browseURL(url)
    },
    seconds,
    collect = options$collect
  )
}
