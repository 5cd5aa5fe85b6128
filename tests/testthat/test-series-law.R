# One law for all functions that derive values: `through` and `known` of a
# result are at least the largest of the inputs used. Tables and chains of
# functions are drawn at random; values that became known after an instant are
# changed, and nothing known by then may move.

days_of <- function(n) as.Date("2025-01-01") + cumsum(sample(1:3, n, TRUE))

law_calendar <- calendar_make(
  list(
    calendar = "law",
    zone = "Europe/Riga",
    sessions = list(regular = "09:30-16:00")
  )
)

# Tables of each shape, some with unordered instants, with or without facts.
law_tables <- list(
  days = function() {
    day <- days_of(60)
    calendar <- if (runif(1) < 0.5) law_calendar
    zone <- calendar$zone %||%
        sample(c("UTC", "America/New_York", "Asia/Kolkata"), 1)
    at <- if (is.null(calendar)) {
      vetusta:::time_local(day, 0, zone)
    } else {
      vetusta:::day_times(day, zone, calendar)
    }
    x <- bars_frame(
      data.frame(
        symbol = "KELD",
        time = at,
        close = round(50 + cumsum(rnorm(60)), 2),
        volume = sample(100, 60, TRUE) + 0
      )
    )
    x$open <- x$close
    x$high <- x$close + 1
    x$low <- x$close - 1
    if (runif(1) < 0.4) x$known <- x$time + 86400 * sample(2:9, 60, TRUE)
    series_about(
      x,
      interval = "1 day",
      zone = zone,
      calendar = calendar,
      delay = if (runif(1) < 0.3) "2 hours"
    )
  },
  hours = function() {
    at <- as.POSIXct("2026-03-20", tz = "UTC") +
        3600 * sort(sample(24 * 14, 120))
    x <- bars_frame(
      data.frame(symbol = "TAMX", time = at, close = round(90 + rnorm(120), 2))
    )
    series_about(x, interval = "1 hour", zone = "Europe/Riga")
  },
  months = function() {
    n <- 30
    x <- data.frame(
      series = "mill",
      period = seq(as.Date("2022-01-01"), by = "month", length.out = n),
      frequency = "M",
      value = round(100 + rnorm(n) * 9, 2)
    )
    if (runif(1) < 0.5) {
      x$known <- as.POSIXct(x$period, tz = "UTC") +
          86400 * sample(40:200, n, TRUE)
    }
    x <- x[sort(sample(n, 25)), ]
    # some are revised
    if (!is.null(x$known) && runif(1) < 0.6) {
      again <- x[sample(25, 5), ]
      again$known <- again$known + 86400 * sample(200, 5)
      again$value <- again$value + 1
      x <- rbind(x, again)
      x <- x[order(x$period, x$known), ]
    }
    series_frame(x)
  },
  levels = function() {
    at <- as.POSIXct("2026-01-05 06:00", tz = "UTC") +
        86400 * sort(sample(200, 90))
    x <- data.frame(
      series = "level",
      time = at,
      value = round(250 + rnorm(90) * 5, 1)
    )
    if (runif(1) < 0.4) x$known <- x$time + 86400 * sample(20, 90, TRUE)
    x
  }
)

rates_like <- function(x) {
  points <- vetusta:::series_points(x, times_only = TRUE)
  at <- seq(
    min(points$time) - 86400 * 40, max(points$time) + 86400, by = 86400 * 5
  )
  data.frame(
    series = "rate", time = vetusta:::utc(at), value = 2 + sin(at / 1e6)
  )
}

# Each takes a table and returns another; a function reports what it cannot do
# with a table.
law_works <- list(
  simple = function(x) series_change(x),
  year = function(x) {
    series_change(x, "difference", over = "3 months", or_before = "40 days")
  },
  mean = function(x) series_change(x, "mean", window = "20 days"),
  extremes = function(x) series_change(x, "max", window = "2 months"),
  index = function(x) series_change(x, "index"),
  cumulative = function(x) series_change(x, "cumulative"),
  drawdown = function(x) series_change(x, "drawdown"),
  convert = function(x) series_convert(x, rates_like(x), lag = "1 day"),
  aggregate = function(x) {
    series_aggregate(
      x, sample(c("W", "M", "Q"), 1), sample(c("mean", "sum", "last"), 1)
    )
  },
  disaggregate = function(x) {
    if (is.null(x[["period"]])) x <- series_aggregate(x, "Q")
    series_disaggregate(x, "W", sample(c("last", "linear", "even"), 1))
  },
  fill = function(x) {
    series_fill(x, rule = sample(c("last", "linear", "next", "monotone"), 1))
  },
  unfill = function(x) series_unfill(series_fill(x, rule = "linear")),
  align = function(x) series_align(x, form = "long", grid = "union"),
  aligned_late = function(x) series_align(x, form = "long", lag = "9 days"),
  own_time = function(x) series_align(x, form = "long", point_in_time = FALSE),
  own_linear = function(x) {
    series_align(
      x, form = "long", point_in_time = FALSE, rule = "linear", grid = "union"
    )
  },
  join = function(x) {
    # choosing the latest of several releases would be hindsight; two of one
    # time are refused
    old <- points_table(vetusta:::series_points(x))
    middle <- min(old$time) + 86400 * 60
    half <- old[old$time <= middle + 86400 * 9, ]
    half$value <- half$value * 3
    new <- old[old$time > middle - 86400 * 9, ]
    series_join(new = new, old = half, adjust = "difference", tolerance = 9)
  },
  subset = function(x) {
    back <- x[rev(seq_len(nrow(x))), ]
    back[vetusta:::start_times(back) %% 5 != 1, ]
  },
  bound = function(x) rbind(x[1:3, ], x[-(1:3), ]),
  resample = function(x) {
    bars_resample(
      bars_frame(x),
      sample(c("1 week", "1 month", "10 days"), 1),
      stamp = sample(c("start", "end"), 1)
    )
  },
  adjust = function(x) {
    x <- bars_frame(x)
    day <- as.Date(
      vetusta:::utc(stats::quantile(as.numeric(x$time), c(0.3, 0.6)))
    )
    bars_adjust(
      x,
      data.frame(
        symbol = x$symbol[1],
        ex_day = day,
        kind = c("cash-dividend", "split"),
        amount = c(0.5, NA),
        ratio = c(NA, 2)
      ),
      "all",
      method = sample(c("ratio", "difference", "total-return"), 1)
    )
  },
  continue = function(x) {
    x <- bars_frame(x)
    next_one <- x
    x$symbol <- "NEAR"
    next_one$symbol <- "NEXT"
    next_one$close <- next_one$close + 1
    at <- stats::median(as.numeric(x$time))
    ends <- data.frame(
      symbol = c("NEAR", "NEXT"),
      last_day = as.Date(vetusta:::utc(c(at, at + 1e9)))
    )
    bars_continuous(
      rbind(x, next_one),
      ends,
      roll = sample(c("expiry", "volume"), 1),
      adjust = "difference"
    )
  }
)

points_table <- function(points) {
  data.frame(
    series = "one",
    time = vetusta:::utc(points$time),
    value = points$value,
    through = vetusta:::utc(points$through),
    known = vetusta:::utc(points$known)
  )
}

# The content of a table as of an instant, by series and time, with every
# column.
said_by <- function(x, now) {
  x <- vetusta:::series_table(vetusta:::as_series(x))
  points <- vetusta:::series_points(x)
  points$row <- seq_len(nrow(points))
  points <- points[points$known <= now & points$known >= 0, ]
  points <- points[order(points$series, points$time, points$known), ]
  last <- !duplicated(points[c("series", "time")], fromLast = TRUE)
  points <- as.data.frame(points)[last & !is.na(points$value), ]
  said <- cbind(
    points[c("series", "time", "value")],
    as.data.frame(x)[points$row, setdiff(names(x), facts_changed)]
  )
  row.names(said) <- NULL
  said
}

# Prices besides the value are changed too, and some rules use them.
facts_changed <- c("series", "time", "value", "open", "high", "low", "volume")

# A column only of the rows filled in place, of which there may be none.
filled_only <- c(
  "rule", "fill_rule", "was", "through", "known", "through_before",
  "known_before"
)

expect_same_said <- function(a, b, label) {
  differ <- setdiff(
    union(names(a), names(b)), intersect(names(a), names(b))
  )
  expect_identical(setdiff(differ, filled_only), character(), label = label)
  both <- intersect(names(a), names(b))
  expect_identical(b[both], a[both], label = label)
}

# Labels, counts and statuses beside the values.
with_labels <- function(x) {
  n <- nrow(x)
  x$place <- sample(c("HRB", "KRS"), n, TRUE)
  x$grade <- rep("A", n)
  x$count <- sample(9, n, TRUE)
  if (is.null(x[["status"]])) {
    x$status <- sample(c("observed", "provisional"), n, TRUE)
  }
  x
}

changed_after <- function(x, now, holes = 0) {
  # rows are ordered already, so points are rows
  known <- vetusta:::series_points(x)$known
  late <- known > now
  for (name in intersect(
    c("open", "high", "low", "close", "volume", "value"), names(x)
  )) {
    x[[name]][late] <- x[[name]][late] * stats::runif(sum(late), 0.5, 2)
  }
  for (name in c("place", "grade")) {
    x[[name]][late] <- sample(c("A", "B", "HRB"), sum(late), TRUE)
  }
  x$count[late] <- x$count[late] + sample(3, sum(late), TRUE)
  # some have no value then
  value <- vetusta:::value_column(vetusta:::as_series(x))
  x[[value]][late & stats::runif(length(late)) < holes] <- NA
  x
}

test_that("known results never change with later data", {
  quiet <- function(work) suppressMessages(suppressWarnings(work))
  ran <- stats::setNames(numeric(length(law_works)), names(law_works))
  for (seed in seq_len(strtoi(Sys.getenv("VETUSTA_LAW", "150")))) {
    withr::with_seed(seed, {
      kind <- sample(names(law_tables), 1)
      x <- quiet(
        vetusta:::series_table(
          vetusta:::as_series(with_labels(law_tables[[kind]]()))
        )
      )
      known <- vetusta:::series_points(x)$known
      now <- stats::quantile(known, runif(1, 0.3, 0.9), names = FALSE)
      other <- changed_after(x, now, sample(c(0, 0.2), 1))
      chain <- sample(names(law_works), sample(4, 1), TRUE)
      done <- character()
      for (name in chain) {
        way <- sample(1e6, 1)
        step <- function(table) {
          tryCatch(
            withr::with_seed(way, quiet(law_works[[name]](table))),
            vetusta_error = function(e) NULL
          )
        }
        was <- vetusta:::series_points(x)
        a <- step(x)
        b <- step(other)
        if (is.null(a) || is.null(b) || nrow(a) < 5) next
        done <- c(done, name)
        ran[[name]] <- ran[[name]] + 1
        label <- paste(seed, kind, paste(done, collapse = " > "))
        expect_same_said(said_by(a, now), said_by(b, now), label)
        got <- vetusta:::series_points(a, lag = "30 days")
        expect_true(
          all(got$known >= got$through + 86400 * 29.9),
          label = paste(label, "lag")
        )
        x <- a
        other <- b
      }
    })
  }
  # each of them was tried
  expect_identical(names(ran)[ran == 0], character())
})

test_that("a table without its filled values is the table before", {
  quiet <- function(work) suppressMessages(suppressWarnings(work))
  for (seed in 1:40) {
    withr::with_seed(seed, {
      x <- with_labels(law_tables[[sample(names(law_tables), 1)]]())
      x <- quiet(vetusta:::series_table(vetusta:::as_series(x)))
      # some rows have no value
      if (seed %% 2) {
        x[[vetusta:::value_column(x)]][sample(nrow(x), 4)] <- NA
      }
      rule <- sample(c("last", "linear", "next", "monotone"), 1)
      full <- quiet(series_fill(x, rule = rule))
      back <- as.data.frame(quiet(series_unfill(full)))
      before <- as.data.frame(x)
      row.names(back) <- row.names(before) <- NULL
      expect_identical(back, before, label = paste(seed, rule))
    })
  }
})
