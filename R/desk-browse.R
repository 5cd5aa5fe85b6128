# A local page to browse a desk's archive.

#' Browse a desk's archive
#'
#' Serves a page on this machine only (127.0.0.1): an overview, the series in a
#' tree with search, and for one or several of them figures, values with status
#' and `known`, gaps, versions, requests, and the commands and R code that give
#' the same. Its URL holds the choices. It needs the packages shiny and bslib.
#'
#' @param desk A desk, see [desk_open()], or the path of an archive.
#' @param port The port; by default a free one.
#' @param ready A function called with the page's URL when the page is served.
#'   The URL contains a token; the page is refused without it.
#' @param collect Whether the page has a button that refreshes the tracked
#'   queries of the desk; without it, the page only reads.
#' @param seconds How long to serve; without an end by default.
#' @return Nothing; it returns when it is stopped.
#' @section Errors: `vetusta_error_page` for missing packages, or a port that is
#'   invalid or taken; `vetusta_error_archive` without an archive.
#' @export
#' @examples
#' \dontrun{
#' desk_browse(desk_open("my-desk"))
#' }
desk_browse <- function(desk, port = NULL,
                        ready = function(url) message("open ", url),
                        seconds = Inf, collect = FALSE) {
  if (is.character(given(desk, "desk", "desk"))) {
    check_text(desk, "desk", "desk")
  } else {
    check_desk(desk)
  }
  if (!is.null(port)) {
    check_number(port, "port", 0, "page")
    if (port != floor(port) || port < 1024 || port > 65535) {
      vetusta_stop(
        "page",
        paste0("There is no port ", format_exact(port), " for a page."),
        todo = paste0(
          "give a whole number from 1024 to 65535; without it a free ",
          "port is used"
        )
      )
    }
  }
  if (!is.function(ready)) {
    vetusta_stop(
      "page", "`ready` must be a function of the page's URL.",
      todo = "leave it out"
    )
  }
  check_number(seconds, "seconds", 0, "page")
  check_flag(collect, "collect")
  if (collect && is.character(desk)) {
    vetusta_stop(
      "page", "An archive alone has no tracked queries to refresh.",
      todo = "give a desk, or leave `collect` out"
    )
  }
  absent <- Filter(
    function(name) !requireNamespace(name, quietly = TRUE), c("shiny", "bslib")
  )
  if (length(absent)) {
    vetusta_stop(
      "page",
      paste0(
        "The page needs the package", if (length(absent) > 1) "s", " ",
        paste(absent, collapse = " and "), "."
      ),
      todo = paste0(
        "install.packages(c(\"shiny\", \"bslib\")), or of Debian the packages ",
        "r-cran-shiny and r-cran-bslib"
      )
    )
  }
  # shiny attaches itself when it runs, with a message
  if (!"package:shiny" %in% search()) suppressMessages(attachNamespace("shiny"))
  place <- if (is.character(desk)) {
    browse_archive_place(desk)
  } else {
    browse_desk(desk, collect)
  }
  place$reader()
  on.exit(place$close())
  # the first view waits for nothing
  browse_datasets(place)
  # another program may take a free port meanwhile: then the next free one
  for (attempt in seq_len(if (is.null(port)) 20L else 1L)) {
    at <- browse_port(port)
    if (browse_run(place, at, ready, seconds)) return(invisible())
  }
  browse_port_taken(at)
}

# Shows the page until it is ended; FALSE if the port is taken.
browse_run <- function(place, port, ready, seconds) {
  token <- browse_token()
  url <- paste0("http://127.0.0.1:", port, "/?token=", token)
  app <- browse_app(place, token)
  timers <- list()
  app$onStart <- function() {
    # `ready` is called once the port is open
    timers <<- list(
      later::later(function() ready(url)),
      if (is.finite(seconds)) later::later(function() shiny::stopApp(), seconds)
    )
  }
  tryCatch(
    {
      shiny::runApp(
        app,
        port = port, host = "127.0.0.1", launch.browser = FALSE, quiet = TRUE
      )
      TRUE
    },
    error = function(e) {
      if (inherits(e, "vetusta_error") ||
        !grepl("create server|address already in use", conditionMessage(e))) {
        stop(e)
      }
      for (cancel in timers) if (is.function(cancel)) cancel()
      FALSE
    }
  )
}

browse_port_taken <- function(port) {
  vetusta_stop(
    "page", paste0("The port ", port, " is taken by another program."),
    todo = "give another port; without it a free port is used"
  )
}

# A free port; shiny's own error for a used port is unclear.
browse_port <- function(port) {
  if (is.null(port)) {
    return(httpuv::randomPort(host = "127.0.0.1"))
  }
  probe <- tryCatch(
    httpuv::startServer(
      "127.0.0.1", port,
      list(call = function(request) {
        list(status = 503L, headers = list(), body = "")
      }),
      quiet = TRUE
    ),
    error = function(e) NULL
  )
  if (is.null(probe)) browse_port_taken(port)
  probe$stop()
  port
}

browse_token <- function() {
  bytes <- tryCatch(
    readBin("/dev/urandom", "raw", 16),
    error = function(e) raw(),
    warning = function(w) raw()
  )
  if (length(bytes) == 16) {
    paste(bytes, collapse = "")
  } else {
    digest::digest(list(Sys.time(), Sys.getpid(), tempfile()), "md5")
  }
}
