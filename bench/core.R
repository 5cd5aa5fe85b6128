# The time core against data.table, single thread, in one run: 10,000,000
# one-minute bars of ten symbols; run from the project's folder with `make
# bench`. Every number is of this run; the ratios are what counts.

library(vetusta)
library(data.table)
setDTthreads(1)
arguments <- commandArgs(TRUE)
most <- if (length(arguments)) as.numeric(arguments[1]) else 1e7
symbols <- sprintf("S%02d", 1:10)
count <- function(x) format(x, big.mark = ",", scientific = FALSE)
seconds <- function(code, times = 3) {
  expression <- substitute(code)
  where <- parent.frame()
  stats::median(vapply(
    seq_len(times),
    function(i) {
      gc(FALSE)
      system.time(eval(expression, where), gcFirst = FALSE)[[3]]
    },
    0
  ))
}
say <- function(what, ours, theirs, aim) {
  cat(
    sprintf(
      "%-58s %7.3f s, data.table %7.3f s, ratio %.2f   aim: at most %.1f\n",
      what, ours, theirs, ours / theirs, aim
    )
  )
}
# peak memory of a step minus the memory before it, in MB
peak <- function(code) {
  gc(reset = TRUE)
  before <- sum(gc()[, 2])
  force(code)
  sum(gc()[, 6]) - before
}

calendar <- source_calendar("quay")
make <- function(n) {
  each <- n / 10
  times <- as.numeric(
    calendar_times(
      calendar, "1 minute", "2000-01-03",
      as.character(as.Date("2000-01-03") + ceiling(each / 390 * 1.5) + 30)
    )
  )[seq_len(each)]
  close <- round(40 * exp(cumsum(stats::rnorm(n, sd = 1e-4))), 3)
  bars_frame(
    vetusta:::list_frame(
      list(
        symbol = rep(symbols, each = each),
        time = rep(vetusta:::utc(times), 10),
        open = close,
        high = close + 0.1,
        low = close - 0.1,
        close = close,
        volume = rep(100, n),
        session = rep("regular", n)
      )
    )
  )
}
set.seed(7)
for (n in c(most / 10, most)) {
  bars <- make(n)
  cat("\n", count(n), " bars\n", sep = "")
  for (to in c("1 hour", "1 day")) {
    ours <- seconds(
      result <- bars_resample(bars, to, calendar, base = "1 minute")
    )
    # the group keys are made in advance and not counted
    hour <- if (to == "1 day") {
      as.integer(vetusta:::local_day(bars$time, calendar$zone))
    } else {
      as.integer((as.numeric(bars$time) - 1800) %/% 3600)
    }
    table <- data.table(
      id = match(bars$symbol, symbols),
      hour = hour,
      open = bars$open,
      high = bars$high,
      low = bars$low,
      close = bars$close,
      volume = bars$volume
    )
    theirs <- seconds(
      other <- table[
        ,
        .(
          open = first(open), high = max(high), low = min(low),
          close = last(close), volume = sum(volume)
        ),
        by = .(id, hour)
      ]
    )
    stopifnot(
      nrow(result) == nrow(other), isTRUE(all.equal(result$high, other$high))
    )
    say(paste("resample minutes to", to), ours, theirs, 1)
  }
  memory <- peak(bars_resample(bars, "1 day", calendar, base = "1 minute"))
  cat(
    sprintf(
      "%-58s %7.0f MB over %.0f MB of input: %.2f   aim: at most 1.2\n",
      "  peak memory of resampling, input counted", memory,
      as.numeric(object.size(bars)) / 2^20,
      1 + memory / (as.numeric(object.size(bars)) / 2^20)
    )
  )

  one <- data.frame(
    series = rep("a", n),
    time = vetusta:::utc(1.6e9 + 7 * seq_len(n)),
    value = stats::rnorm(n)
  )
  class(one$time) <- c("POSIXct", "POSIXt")
  grid <- vetusta:::utc(sort(unique(1.6e9 + 7 * n * stats::runif(n / 10))))
  ours <- seconds(got <- series_align(one, grid = grid)$a)
  left <- data.table(
    time = as.numeric(one$time),
    value = one$value,
    key = "time"
  )
  right <- data.table(time = as.numeric(grid))
  theirs <- seconds(joined <- left[right, value, on = "time", roll = TRUE])
  stopifnot(identical(got, joined))
  say(
    paste("align", count(n), "values as of", count(n / 10), "times"), ours,
    theirs, 0.7
  )

  holed <- one$value
  holed[sample(n, n / 5)] <- NA
  ours <- seconds(carried <- vetusta:::carry_cpp(holed, integer(), Inf, TRUE))
  theirs <- seconds(filled <- nafill(holed, "locf"))
  stopifnot(identical(carried, filled))
  say("carry forward", ours, theirs, 1.2)

  ours <- seconds(
    rolled <- series_change(one, "mean", window = "700 seconds")$value
  )
  theirs <- seconds(fixed <- frollmean(one$value, 100))
  stopifnot(isTRUE(all.equal(rolled[100:n], fixed[100:n])))
  say("rolling mean over a window of time", ours, theirs, 2.2)

  few <- bars[bars$symbol == "S01", ]
  few <- few[-sample(nrow(few), nrow(few) / 50), ]
  expected <- calendar_times(
    calendar, "1 minute", min(few$time), max(few$time) + 1
  )
  ours <- seconds(gaps <- series_gaps(few, calendar, interval = "1 minute"))
  wanted <- data.table(time = as.numeric(expected))
  there <- data.table(time = as.numeric(few$time))
  theirs <- seconds(absent <- wanted[!there, on = "time"])
  stopifnot(nrow(absent) == sum(gaps$missing))
  say(
    paste(
      "gaps of", count(length(expected)), "expected minutes, to an anti-join"
    ),
    ours, theirs, 0.5
  )
}
