# What a run came to, and how it is told.

collect_result <- function(state) {
  values <- mget(c("pages", "new", "changed", "equal", "aside", "again", "failed"), envir = state)
  left <- calls_left(state) + state$unfinished
  structure(c(values, list(cut = state$cut, empty = without_data(state), failed_keys = state$failed_keys, shape = state$want$shape, left = left, resume = state$resume,
    seconds = as.numeric(Sys.time()) - state$started, notes = state$want$notes)), class = "vetusta_run")
}

# The symbols for which nothing came, now or ever.
without_data <- function(state) {
  if (state$want$shape != "bars" || is.null(state$archive)) {
    return(state$empty)
  }
  Filter(function(symbol) is.null(state$came[[symbol]]) && !archive_has_bars(state$archive, state$want$source$source, symbol, state$want$interval), unique(state$empty))
}

#' @export
print.vetusta_run <- function(x, ...) {
  cat(format_run(x), sep = "\n")
  invisible(x)
}

format_run <- function(x) {
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  held <- if (x$equal > 0) paste0(", ", count(x$equal), " held already")
  changed <- if (x$changed > 0) paste0(", ", count(x$changed), " changed")
  c(
    paste0("collected ", count(x$new), " new ", c(bars = "bars", observations = "values")[x$shape] %|na|% "rows", changed, held, " in ", counted(x$pages, "page"),
      " and ", format_seconds(max(1, x$seconds))),
    if (isTRUE(x$cut > 0)) paste0("  ", counted(x$cut, "selection"), " too large for the service, cut and asked for in parts"),
    if (length(x$empty)) paste0("  no data for ", paste(utils::head(x$empty, 5), collapse = ", "), if (length(x$empty) > 5) " and more"),
    if (x$again > 0) paste0("  ", counted(x$again, "call"), " had to be repeated"),
    if (x$aside > 0) paste0("  ", counted(x$aside, "row"), if (x$aside == 1) " was" else " were", " set aside: see archive_findings()"),
    if (x$left > 0) paste0("  ", counted(x$left, "call"), " left", if (!is.null(x$resume)) paste0(": the quota is used up; go on after ", format_instant(floor(as.numeric(x$resume))))),
    if (nrow(x$failed)) paste0("  ", count(nrow(x$failed)), " failed:"),
    if (nrow(x$failed)) format_failed(utils::head(x$failed, 10)),
    if (nrow(x$failed) > 10) paste0("    and ", count(nrow(x$failed) - 10), " more")
  )
}

format_failed <- function(failed) paste0("    ", failed$symbol, ": ", failed$what, "\n      to do: ", failed$todo)
