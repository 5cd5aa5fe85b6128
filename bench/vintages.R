# The cost of releases: each function over 100,000 daily values of one series in
# which 0, 1, 100 and 10,000 rows have a second release, and over 100 releases
# of 10,000 values; as a multiple of the time without releases. Disaggregation
# takes 5,000 months. Run with `make bench` from the project's folder.
library(vetusta)

seconds <- function(work) {
  gc(FALSE)
  system.time(suppressMessages(work()), gcFirst = FALSE)[["elapsed"]]
}
values <- function(n, by, known_after) {
  day <- if (by == "D") {
    as.Date("1800-01-01") + seq_len(n) - 1
  } else {
    seq(as.Date("1600-01-01"), by = "month", length.out = n)
  }
  data.frame(
    series = "a",
    period = day,
    frequency = by,
    value = sin(seq_len(n) / 50) + 2,
    known = as.POSIXct(day + known_after, tz = "UTC")
  )
}
with_releases <- function(x, count) {
  set.seed(1)
  rows <- if (count == 1) 40 else sort(sample(nrow(x), count))
  again <- x[rows, ]
  again$value <- again$value + 0.1
  again$known <- again$known + 86400 * (50 + rows %% 7)
  rbind(x, again)
}
whole_releases <- function(x, count) {
  parts <- lapply(seq_len(count), function(k) {
    transform(x, value = value + k / 1000, known = max(known) + 86400 * k)
  })
  do.call(rbind, parts)
}
show <- function(what, work, x, counts, times) {
  alone <- stats::median(
    vapply(seq_len(times), function(i) seconds(function() work(x)), 0)
  )
  took <- vapply(
    counts,
    function(count) {
      table <- with_releases(x, count)
      stats::median(
        vapply(seq_len(times), function(i) seconds(function() work(table)), 0)
      )
    },
    0
  )
  cat(
    sprintf(
      "%-34s %6.2f s  %s\n", what, alone,
      paste(
        sprintf("%s: %.1f", format(counts, big.mark = ","), took / alone),
        collapse = "   "
      )
    )
  )
}

times <- as.integer(Sys.getenv("VETUSTA_BENCH_TIMES", "3"))
days <- values(100000, "D", 1)
counts <- c(1, 100, 10000)
show("change", series_change, days, counts, times)
show(
  "change over a year", function(x) series_change(x, over = "1 year"), days,
  counts, times
)
show(
  "mean of 30 days", function(x) series_change(x, "mean", window = "30 days"),
  days, counts, times
)
show("months", function(x) series_aggregate(x, "M"), days, counts, times)
show(
  "fill, a tenth missing",
  function(x) series_fill(x[-seq(5, nrow(days), 10), ]), days, counts, times
)
months <- values(5000, "M", 40)
for (rule in c("last", "linear", "even")) {
  show(
    paste0("months to days, ", rule),
    function(x) series_disaggregate(x, "D", rule), months, c(1, 100, 1000),
    times
  )
}
some <- values(10000, "D", 1)
all <- whole_releases(some, 100)
plain <- values(nrow(all), "D", 1)
for (what in c("change", "months", "fill")) {
  work <- switch(what,
    change = series_change,
    months = function(x) series_aggregate(x, "M"),
    fill = series_fill
  )
  cat(
    sprintf(
      "%-34s %6.2f s  100 releases of 10,000: %.1f\n", what,
      alone <- seconds(function() work(plain)),
      seconds(function() work(all)) / alone
    )
  )
}
