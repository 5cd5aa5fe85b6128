# Slow and obvious references, one row at a time, and random series with holes,
# duplicate times and unordered rows.
random_points <- function(n = 60, series = c("a", "b"), seed = 1, holes = 0.2,
                          doubled = 0.1, shuffled = TRUE) {
  withr::with_seed(seed, {
    parts <- lapply(series, function(name) {
      day <- sort(sample(seq_len(n * 2), n))
      value <- round(100 + cumsum(stats::rnorm(n)), 3)
      value[stats::runif(n) < holes] <- NA
      rows <- data.frame(
        series = name,
        time = as.POSIXct("2024-01-01", tz = "UTC") + 86400 * day,
        value = value
      )
      rbind(rows, rows[sample(n, ceiling(n * doubled)), ])
    })
    all <- do.call(rbind, parts)
    if (shuffled) all <- all[sample(nrow(all)), ]
    rownames(all) <- NULL
    all
  })
}

# The bars of one bucket, row by row.
slow_resample <- function(bars, frames) {
  out <- NULL
  for (i in seq_len(nrow(frames))) {
    for (symbol in unique(bars$symbol)) {
      rows <- bars[
        bars$symbol == symbol &
          bars$time >= frames$open[i] &
          bars$time < frames$close[i],

      ]
      rows <- rows[order(rows$time), ]
      if (!nrow(rows)) next
      first <- function(x) if (all(is.na(x))) NA else x[!is.na(x)][1]
      out <- rbind(
        out,
        data.frame(
          symbol = symbol,
          time = frames$open[i],
          open = first(rows$open),
          high = max(rows$high),
          low = min(rows$low),
          close = rows$close[nrow(rows)],
          volume = sum(rows$volume),
          count = nrow(rows)
        )
      )
    }
  }
  out[order(out$symbol, out$time), ]
}

# The value known at an instant: of the rows known by then the one with the
# latest time, and of those the latest release.
slow_as_of <- function(rows, at) {
  rows <- rows[!is.na(rows$value) & rows$known <= at, ]
  if (!nrow(rows)) {
    return(NA_real_)
  }
  rows <- rows[order(rows$time, rows$known), ]
  rows$value[nrow(rows)]
}
