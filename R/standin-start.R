# The stand-in services in another process.

#' Start the invented services
#'
#' Runs [services_serve()] in a process of its own on a free port, for examples
#' and trials.
#'
#' @param seconds The longest time to serve.
#' @param ... Passed on to [services_serve()].
#' @return A list of `urls` (a named list: the URL of each service), `keys` (a
#'   named character vector of the secrets of the cards) and `stop` (a function
#'   that ends them; they also end with the session).
#' @section Errors: `vetusta_error_service` if they do not start.
#' @export
#' @examples
#' \dontrun{
#' services <- services_start()
#' do.call(Sys.setenv, as.list(services$keys))
#' quay <- source_card("quay", url = services$urls$quay)
#' services$stop()
#' }
services_start <- function(seconds = 600, ...) {
  check_number(seconds, "seconds", 0, "service")
  said <- tempfile()
  given <- list(...)
  if (length(given)) {
    for (name in names(given)) {
      check_choice(
        name, "...",
        setdiff(names(formals(services_serve)), c("ready", "until")), "service"
      )
    }
  }
  code <- paste0(
    "do.call(vetusta::services_serve, c(list(until = ", format_exact(seconds),
    ", ready = function(port) { cat(\"port\", port, \"\\n\"); ",
    "flush(stdout()) }), ",
    paste(deparse(utils::modifyList(list(port = 0), given)), collapse = ""),
    "))"
  )
  process <- processx::process$new(
    file.path(R.home("bin"), "Rscript"),
    c("--no-init-file", "-e", code),
    stdout = "|",
    stderr = said,
    cleanup_tree = TRUE,
    env = c(
      "current",
      R_LIBS = paste(.libPaths(), collapse = .Platform$path.sep)
    )
  )
  end <- as.numeric(Sys.time()) + 60
  while (as.numeric(Sys.time()) < end && process$is_alive()) {
    process$poll_io(200)
    line <- grep("^port ", process$read_output_lines(), value = TRUE)
    if (length(line)) {
      port <- as.integer(sub("port ", "", line[1]))
      return(
        list(
          urls = standin_urls(port, given$fault),
          keys = standin_keys,
          stop = function() invisible(process$kill())
        )
      )
    }
  }
  process$kill()
  vetusta_stop(
    "service",
    "The invented services did not start.",
    where = paste(
      utils::tail(readLines(said, warn = FALSE), 3),
      collapse = " "
    ),
    todo = "read its messages"
  )
}

standin_titles <- c(
  "Ysel Quay Exchange" = "quay", "Ysel Fixing" = "fixing",
  "Sarn River Survey" = "river", "Sarn Company Register" = "register",
  "Quay Archive Hall" = "hall", "Basin Statistics Office" = "basin"
)

standin_urls <- function(port, fault = NULL) {
  as.list(
    stats::setNames(
      paste0(standin_root(port, fault), "/", standin_titles), standin_titles
    )
  )
}
