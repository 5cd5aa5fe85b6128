# The result of a refresh for people.

#' @export
print.vetusta_refresh <- function(x, ...) {
  cat(format_refresh(x), sep = "\n")
  invisible(x)
}

# The final table, within 80 columns, with remarks on each query below.
format_refresh <- function(x, width = 80) {
  rows <- as.data.frame(x)
  if (!nrow(rows)) {
    return(
      paste0(
        "the desk tracks no query yet; `vetusta track SOURCE DATASET ",
        "...` adds one"
      )
    )
  }
  shown <- rows[c("query", "requests", "new", "changed", "failed")]
  shown$complete_until <- to_minute(rows$complete_until)
  # a plan has no results yet
  if (any(rows$outcome == "planned")) {
    shown <- shown[c("query", "requests", "complete_until")]
  }
  names(shown)[names(shown) == "complete_until"] <- "complete until (UTC)"
  shown$outcome <- rows$outcome
  noted <- nzchar(rows$message) & rows$outcome != "done"
  lines <- text_table(shown, width)
  c(
    lines,
    if (any(noted)) {
      c(
        "",
        wrapped_lines(
          paste0(rows$query[noted], ": ", rows$message[noted]), width
        )
      )
    }
  )
}

# Sentences wrapped at a width; continued lines are indented.
wrapped_lines <- function(text, width) {
  if (is.finite(width)) strwrap(text, width = width, exdent = 2) else text
}
