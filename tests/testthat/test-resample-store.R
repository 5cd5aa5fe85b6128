# Bars resampled by the column store equal those computed in R.

# Minutes of several symbols at odd moments around a window: within and beside
# sessions, some revised, some deleted later, with missing values.
odd_minutes <- function(symbols, from, days, zone, share = 0.15,
                        sessions = NULL, step = 60) {
  start <- as.numeric(as.POSIXct(from, tz = zone))
  all <- lapply(symbols, function(symbol) {
    time <- start +
        step * sort(sample(days * 86400 / step, days * 86400 / step * share))
    n <- length(time)
    price <- round(40 + cumsum(rnorm(n, sd = 0.02)), 2)
    hole <- function(x, p) replace(x, runif(n) < p, NA)
    data.frame(
      symbol = symbol,
      time = vetusta:::utc(time),
      open = hole(price, 0.2),
      high = hole(price + round(runif(n), 2) + 1, 0.2),
      low = hole(price - 1.5, 0.2),
      close = hole(price + 0.5, 0.2),
      volume = hole(round(rexp(n, 1 / 400)), 0.1),
      session = if (is.null(sessions)) {
        NA_character_
      } else {
        sample(sessions, n, TRUE)
      },
      status = sample(c("observed", "provisional"), n, TRUE, c(0.999, 0.001))
    )
  })
  do.call(rbind, all)
}

put_minutes <- function(archive, rows, now, frequency = "PT1M") {
  rows <- rows[order(rows$symbol, rows$time), ]
  bars <- suppressMessages(bars_frame(rows[names(rows) != "status"]))
  bars$status <- rows$status
  put_rows(
    archive, "quay", "bars", "bars", bars, frequency = frequency, now = now
  )
}

# The result of the store, if the store computes it, beside the result of R.
expect_same_longer <- function(archive, asked, ..., sums = 1e-12,
                               by_store = TRUE) {
  info <- paste(
    deparse(asked[setdiff(names(asked), "calendar")]), collapse = " "
  )
  read <- archive_read(archive, ...)[[1]]
  sessions <- asked$sessions
  asked$sessions <- NULL
  said <- character()
  listen <- function(work) {
    said <<- character()
    withCallingHandlers(work, vetusta_note = function(note) {
      said <<- c(said, conditionMessage(note))
      tryInvokeRestart("muffleMessage")
    })
  }
  here <- listen(
    do.call(
      bars_resample,
      c(
        list(
          vetusta:::bars_of_sessions(read, sessions),
          base = attr(read, "interval")
        ),
        asked
      )
    )
  )
  said_here <- said
  there <- local({
    if (by_store) {
      local_instead(
        "bars_resample", function(...) stop("it was made here", call. = FALSE)
      )
    }
    listen(
      archive_read(
        archive,
        ...,
        resample = function(source) c(asked, list(sessions = sessions))
      )[[1]]
    )
  })
  exact <- setdiff(names(here), c("volume", "vwap"))
  for (name in exact) {
    expect_true(
      identical(there[[name]], here[[name]]),
      info = paste(
        info, name,
        paste(
          utils::capture.output(
            print(all.equal(there[[name]], here[[name]]))
          ),
          collapse = " "
        )
      )
    )
  }
  for (name in c("volume", "vwap")) {
    expect_true(
      identical(is.na(there[[name]]), is.na(here[[name]])),
      info = paste(info, name)
    )
    expect_true(
      all(
        abs(there[[name]] - here[[name]]) <= sums * abs(here[[name]]),
        na.rm = TRUE
      ),
      info = info
    )
  }
  expect_identical(
    attributes(there)[c("names", "class", "outside")],
    attributes(here)[c("names", "class", "outside")], info = info
  )
  expect_identical(said, said_here, info = info)
  invisible(there)
}

riga_calendar <- function() {
  calendar_make(
    list(
      calendar = "shore",
      zone = "Europe/Riga",
      sessions = list(
        early = "07:45-09:30", regular = "09:30-16:00", late = "16:00-19:15"
      ),
      half_days = list(
        list(day = "2026-03-27", sessions = list(regular = "09:30-12:30"))
      )
    )
  )
}

for (cluster in c(FALSE, TRUE)) {
  local({
    cluster <- cluster
    test_that(
      paste(
        "longer bars are those that are made here,",
        if (cluster) "of two shards" else "of one server"
      ),
      {
        set.seed(if (cluster) 2 else 1)
        archive <- columns_archive(cluster = cluster, eager = FALSE)
        calendar <- riga_calendar()
        # across the clock change at the end of March
        rows <- odd_minutes(
          c("KELD", "TAMX", "SALT"), "2026-03-23", 14, "Europe/Riga"
        )
        put_minutes(archive, rows, 1.78e9)
        vetusta:::columns_shift(archive)
        asked <- list(
          list(interval = "1 day", calendar = calendar),
          list(
            interval = "1 day", calendar = calendar, session = NULL,
            stamp = "end", need = 0.2
          ),
          list(interval = "1 day", zone = "Europe/Riga"),
          list(interval = "1 day", zone = "Europe/Riga", day_start = "17:00"),
          list(
            interval = "1 week", calendar = calendar, week_start = "wednesday",
            need = 0
          ),
          list(
            interval = "1 month", calendar = calendar,
            session = c("regular", "late")
          ),
          list(
            interval = "session", calendar = calendar, session = NULL,
            need = 0.1
          ),
          list(interval = "1 hour", calendar = calendar, need = 0),
          list(interval = "10 minutes", calendar = calendar, need = 0),
          list(
            interval = "1 hour", calendar = calendar, anchor = "clock", need = 0
          ),
          list(
            interval = "4 hours", calendar = calendar, session = NULL,
            anchor = "clock"
          ),
          list(interval = "30 minutes", zone = "Europe/Riga", anchor = "clock")
        )
        for (one in asked) {
          expect_same_longer(archive, one, "*@1 minute")
          expect_same_longer(
            archive, one, "TAMX@1 minute", "2026-03-26", "2026-03-30T10:07:00Z"
          )
        }
        # some rows are revised, some deleted, some new; not all of them have
        # moved
        known <- 1.79e9
        again <- rows[sample(nrow(rows), 300), ]
        again$close <- again$close + 3
        again$status[1:40] <- "deleted"
        put_minutes(archive, again, known)
        vetusta:::columns_shift(archive)
        expect_gt(
          vetusta:::sql_get(archive, "SELECT count(*) AS n FROM moved")$n, 0
        )
        new <- odd_minutes(
          c("KELD", "SALT", "ROPE"), "2026-04-05 11:00", 3, "Europe/Riga"
        )
        put_minutes(archive, new, known + 10)
        for (one in asked) {
          expect_same_longer(archive, one, "*@1 minute")
          expect_same_longer(
            archive,
            one,
            "*@1 minute",
            as_of = vetusta:::utc(1.785e9)
          )
        }
        # rows that moved twice are read once
        archive$columns$known <- list()
        vetusta:::columns_shift(archive)
        expect_same_longer(archive, asked[[1]], "*@1 minute")
        expect_same_longer(archive, asked[[8]], "*@1 minute", "2026-03-28")
      }
    )
  })
}

test_that("bars with session, side and mean, and times before 1970", {
  set.seed(3)
  archive <- columns_archive(eager = FALSE)
  calendar <- riga_calendar()
  rows <- odd_minutes(
    c("KELD", "TAMX", "SALT", "ROPE"),
    "1969-12-22",
    17,
    "Europe/Riga",
    sessions = c("early", "regular", "regular", "late", NA)
  )
  rows$vwap <- round(rows$open + runif(nrow(rows), -0.1, 0.1), 3)
  rows$vwap[rows$symbol == "ROPE"] <- NA
  rows$side <- ifelse(
    rows$symbol == "TAMX", sample(c("bid", "ask"), nrow(rows), TRUE), NA
  )
  # an infinite price is possible
  rows$high[sample(nrow(rows), 3)] <- Inf
  put_minutes(archive, rows[rows$symbol != "SALT", ], 1.78e9)
  vetusta:::columns_shift(archive)
  early <- rows$symbol == "SALT" & rows$time < as.POSIXct("1969-12-28")
  put_minutes(archive, rows[early, ], 1.78e9)
  local_instead("columns_cells", 60)
  local_instead("columns_groups", 200)
  asked <- list(
    list(interval = "1 day", calendar = calendar, sessions = "regular"),
    list(
      interval = "1 day", calendar = calendar, session = NULL,
      sessions = c("early", "late")
    ),
    list(interval = "1 week", calendar = calendar, session = NULL, need = 0),
    list(interval = "1 year", zone = "Europe/Riga", need = 0),
    list(
      interval = "90 minutes", calendar = calendar, session = "early", need = 0
    )
  )
  for (one in asked) {
    expect_same_longer(archive, one, "*@1 minute")
    expect_same_longer(archive, one, "quay/bars/TAMX*@1 minute")
    expect_same_longer(archive, one, "ROPE@1 minute", to = "1969-12-30")
  }
})

test_that("rows that come while others are counted do not count twice", {
  set.seed(4)
  archive <- columns_archive(eager = FALSE)
  rows <- odd_minutes(c("KELD", "TAMX"), "2026-03-23", 6, "Europe/Riga")
  put_minutes(archive, rows, 1.78e9)
  vetusta:::columns_shift(archive)
  asked <- list(interval = "1 day", zone = "Europe/Riga")
  here <- archive_read(archive, resample = asked)[[1]]
  # the same rows once more, as a killed process leaves them, after the first
  # count
  local({
    original <- vetusta:::columns_pieces
    came <- FALSE
    local_instead("columns_pieces", function(cells) {
      if (!came) {
        came <<- TRUE
        again <- vetusta:::columns_read(archive$columns, "bars", 1)
        vetusta:::columns_insert(
          archive$columns, "bars", again$series, again$columns, 9e15
        )
      }
      original(cells)
    })
    expect_identical(archive_read(archive, resample = asked)[[1]], here)
    expect_true(came)
  })
  expect_identical(archive_read(archive, resample = asked)[[1]], here)
})

test_that("buckets of moved rows that are read here", {
  archive <- columns_archive(eager = FALSE)
  bars <- as.data.frame(minute_bars("KELD"))
  put_minutes(archive, bars[1:200, ], 1.78e9)
  vetusta:::columns_shift(archive)
  put_minutes(archive, bars[201:390, ], 1.78e9)
  expect_same_longer(
    archive, list(interval = "1 day", calendar = source_calendar("quay"))
  )
})

test_that("what the store cannot say the same of is made here", {
  archive <- columns_archive(eager = FALSE)
  calendar <- source_calendar("quay")
  bars <- as.data.frame(minute_bars("KELD"))
  put <- function(rows, frequency = "PT1M") {
    put_rows(archive, "quay", "bars", "bars", rows, frequency = frequency)
    vetusta:::columns_shift(archive)
  }
  put(bars)
  hours <- list(interval = "1 hour", calendar = calendar, need = 0)
  made <- function(by_store, asked = hours, ...) {
    expect_same_longer(archive, asked, ..., by_store = by_store)
    seen <- FALSE
    local_instead("bars_resample", function(bars, ...) {
      seen <<- TRUE
      bars
    })
    archive_read(archive, ..., resample = asked)
    expect_identical(seen, !by_store)
  }
  made(TRUE, ids = "KELD@1 minute")
  # cells hardly longer than the bars
  made(
    FALSE, list(interval = "7 minutes", calendar = calendar), "KELD@1 minute"
  )
  # days belong to their trading days, however they are labelled
  days <- bars_resample(bars, "1 day", calendar)
  put(as.data.frame(days)[names(bars)], "P1D")
  made(FALSE, list(interval = "1 week", calendar = calendar), "KELD@1 day")
  # of bars with stated releases the latest ones
  late <- as.data.frame(minute_bars("TAMX"))
  late$known <- late$time + 3600
  put(late)
  made(TRUE, ids = "TAMX@1 minute")
  made(TRUE, ids = "KELD@1 minute")
  # a column with text in some rows
  odd <- as.data.frame(minute_bars("SALT"))
  odd$volume <- "many"
  put_rows(archive, "other", "bars", "bars", odd, frequency = "PT1M")
  vetusta:::columns_shift(archive)
  made(FALSE, ids = "KELD@1 minute")
})

test_that("a store with lost rows returns nothing in their place", {
  archive <- columns_archive(eager = FALSE)
  put_minutes(archive, as.data.frame(minute_bars("KELD")), 1.78e9)
  put_minutes(archive, as.data.frame(minute_bars("TAMX")), 1.78e9)
  vetusta:::columns_shift(archive)
  asked <- list(interval = "1 day", calendar = source_calendar("quay"))
  path <- archive$path
  looker <- archive_open(path, read_only = TRUE)
  withr::defer(archive_close(looker))
  looker$columns$user <- "looker"
  expect_identical(
    archive_read(looker, resample = asked)[[1]]$count, c(390L, 390L)
  )
  columns <- archive$columns
  table <- vetusta:::columns_table(columns, "bars")
  vetusta:::columns_do(
    columns,
    paste(
      "ALTER TABLE", table, "DROP PARTITION",
      sub(
        "\n.*", "",
        rawToChar(
          vetusta:::columns_send(
            columns,
            paste0(
              "SELECT partition FROM ",
              "system.parts WHERE active AND concat(database, '.',
                  table) = '",
              table, "'"
            )
          )
        )
      )
    )
  )
  expect_error_kind(
    archive_read(archive, resample = asked), "archive", "fewer rows than went"
  )
})

test_that("longer bars: arguments and shapes are checked", {
  archive <- archive_open(withr::local_tempfile(fileext = ".sqlite"))
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = "kelder-lock", period = as.Date("2026-03-12"), value = 1
    ),
    frequency = "D"
  )
  read <- function(resample) {
    archive_read(archive, "KELD", resample = resample)
  }
  expect_error_kind(read("1 day"), "argument", "must be a list of arguments")
  expect_error_kind(
    read(list("1 day")), "argument", "must be a list of arguments"
  )
  expect_error_kind(
    read(list(interval = "1 day", sesion = "late")), "argument", "sesion"
  )
  expect_error_kind(
    read(list(interval = "30 seconds")), "argument", "cannot be resampled"
  )
  expect_error_kind(
    archive_read(archive, resample = list(interval = "1 day")), "argument",
    "a series has other values"
  )
  bars <- read(list(interval = "1 hour"))[[1]]
  expect_identical(nrow(bars), 7L)
  expect_identical(attr(bars, "interval")$iso, "PT1H")
})

test_that("commands give equal results before and after rows move", {
  folder <- withr::local_tempdir()
  desk_make(folder)
  path <- file.path(folder, "archive.sqlite")
  archive <- columns_archive(eager = FALSE, path = path)
  for (symbol in c("KELD", "TAMX")) {
    put_minutes(archive, as.data.frame(minute_bars(symbol)), 1.78e9)
    put_minutes(
      archive, as.data.frame(minute_bars(symbol, "2026-03-13")), 1.78e9
    )
  }
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = "kelder-lock",
      period = as.Date("2026-01-01") + 0:89,
      value = 1:90
    ),
    frequency = "D"
  )
  lines <- readLines(file.path(folder, "desk.yml"))
  writeLines(
    c(
      lines, "outputs:", "  hours:",
      "    series: [\"KELD@1 minute\", kelder-lock]", "    resample: 1 month",
      "    file: hours.csv"
    ),
    file.path(folder, "desk.yml")
  )
  numbers <- function(text) suppressWarnings(as.numeric(text))
  run <- function() {
    said <- function(...) {
      got <- run_vetusta(
        ...,
        folder = folder,
        env = c(QUAY_KEY = "quay-demo-7f3a91")
      )
      expect_identical(got$status, 0L, info = got$stderr)
      utils::read.csv(text = got$stdout)
    }
    out <- list(
      said("export", "*@1 minute", "--resample", "1 day"),
      said("export", "*@1 minute", "--resample", "1 day", "--form", "wide"),
      said(
        "resample", "KELD@1 minute", "--into", "1 hour", "--anchor", "clock"
      ),
      said("resample", "KELD@1 minute", "kelder-lock", "--into", "1 month")
    )
    desk_write(desk_open(folder), "hours")
    c(out, list(utils::read.csv(file.path(folder, "hours.csv"))))
  }
  before <- run()
  vetusta:::columns_shift(archive)
  expect_equal(run(), before, tolerance = 1e-12)
  expect_identical(vapply(before, nrow, 1L), c(4L, 2L, 14L, 4L, 4L))
  got <- run_vetusta(
    "export", "kelder-lock", "--resample", "1 month", folder = folder
  )
  expect_identical(got$status, 2L)
  expect_match(got$stderr, "--resample is for bars")
  figure <- run_vetusta(
    "figure", "gaps", "KELD@1 minute", "--resample", "1 hour", "--file",
    "gaps.png", folder = folder
  )
  expect_identical(figure$status, 0L, info = figure$stderr)
})
