# The last values of series as a line of text, for lists in a terminal.

# A text per series; only the last values are read. "" where a series has no
# numbers.
archive_courses <- function(archive, series, signs = 16, values = 64) {
  vapply(seq_len(nrow(series)), function(i) {
    row <- series[i, ]
    step <- (as.numeric(row$last) - as.numeric(row$first)) / max(1, row$rows)
    from <- as.numeric(row$last) - values * step
    table <- tryCatch(
      without_notes(archive_read(
        archive, row$id,
        from = if (is.finite(from)) utc(from)
      )),
      vetusta_error = function(e) NULL
    )
    if (!length(table) || !NROW(table[[1]])) {
      return("")
    }
    points <- tryCatch(
      series_latest_rows(as_series(table[[1]])),
      vetusta_error = function(e) NULL
    )
    value <- if (!is.null(points)) points[[value_column(points)]]
    if (is.numeric(value)) {
      series_course(start_times(points), value, signs)
    } else {
      ""
    }
  }, "")
}
