# Unordered rows are sorted, with one message of its own class; and calendars
# that end.
points <- function(day, value = seq_along(day), series = "mill") {
  data.frame(
    series = series,
    time = as.POSIXct(day, tz = "UTC"),
    value = as.double(value)
  )
}
note_of <- function(work) {
  notes <- list()
  result <- withCallingHandlers(work, vetusta_note = function(note) {
    notes[[length(notes) + 1]] <<- note
    tryInvokeRestart("muffleMessage")
  })
  list(result = result, notes = notes)
}
sorted <- points(
  sprintf("2026-03-%02d", 2:13), c(1, 2, NA, 4, 5, 6, NA, NA, 9, 10, 11, 12)
)
shuffled <- sorted[c(1, 3, 2, 4:6, 12, 7:11), ]

test_that("each operation sorts, with a note of how many rows", {
  week <- calendar_make(
    list(
      calendar = "all",
      zone = "UTC",
      weekdays = c(
        "monday", "tuesday", "wednesday", "thursday", "friday", "saturday",
        "sunday"
      ),
      sessions = list(day = "00:00-24:00")
    )
  )
  works <- list(
    fill = function(x) series_fill(x, rule = "linear", interval = "1 day"),
    gaps = function(x) series_gaps(x, calendar = week, interval = "1 day"),
    aggregate = function(x) series_aggregate(x, "W", "mean", need = 0),
    disaggregate = function(x) {
      series_disaggregate(x[!duplicated(x$time), ], "D", "linear")
    },
    align = function(x) series_align(x, grid = "union"),
    change = function(x) series_change(x, "log"),
    rolling = function(x) series_change(x, "mean", window = "3 days")
  )
  for (name in names(works)) {
    given <- note_of(works[[name]](shuffled))
    expect_identical(
      length(given$notes),
      1L,
      label = paste(name, "says it once")
    )
    expect_match(
      conditionMessage(given$notes[[1]]),
      "note: [0-9]+ rows? of 12 stood out of order and w", label = name
    )
    plain <- note_of(works[[name]](sorted))
    expect_identical(
      length(plain$notes),
      0L,
      label = paste(name, "is silent on sorted rows")
    )
    expect_equal(
      given$result, plain$result, label = name, ignore_attr = "row.names"
    )
  }
})

test_that("the note has numbers and can be muffled", {
  two <- rbind(
    points(c("2026-03-02", "2026-03-03"), series = "a"),
    points(c("2026-03-02", "2026-03-05", "2026-03-03"), series = "b")
  )
  note <- note_of(series_change(two, "difference"))$notes[[1]]
  expect_identical(c(note$late, note$total), c(1, 5))
  # interleaved series are ordered each
  expect_identical(
    length(note_of(series_change(two[c(1, 3, 2, 4), ], "difference"))$notes), 0L
  )
  expect_silent(
    suppressMessages(series_change(two, "difference"), classes = "vetusta_note")
  )
  bars <- minute_bars()
  jumbled <- as.data.frame(bars)[c(2, 1, 3:390), ]
  expect_identical(length(note_of(bars_frame(jumbled))$notes), 1L)
  expect_identical(length(note_of(bars_frame(as.data.frame(bars)))$notes), 0L)
  daily <- note_of(
    bars_resample(
      suppressMessages(bars_frame(jumbled)),
      "1 day",
      calendar = source_calendar("quay")
    )
  )
  expect_identical(length(daily$notes), 0L)
})

test_that("the note goes to stderr on the command line", {
  folder <- withr::local_tempdir()
  csv <- function(rows, file) {
    writeLines(
      c(
        "time,value",
        paste(
          format(rows$time, "%Y-%m-%dT%H:%M:%SZ"),
          ifelse(is.na(rows$value), "", rows$value), sep = ","
        )
      ),
      file.path(folder, file)
    )
  }
  csv(sorted, "sorted.csv")
  csv(shuffled, "shuffled.csv")
  for (words in list(
    c("fill", "--rule", "linear"), c("change", "--change", "log"),
    c("resample", "--into", "M", "--using", "mean", "--need", "0")
  )) {
    run <- function(file) {
      do.call(
        run_vetusta,
        as.list(c(words[1], "--input", file, words[-1], folder = folder))
      )
    }
    plain <- run("sorted.csv")
    mixed <- run("shuffled.csv")
    expect_identical(mixed$status, 0L, info = mixed$stderr)
    expect_match(mixed$stderr, "of 12 stood out of order", label = words[1])
    expect_false(grepl("out of order", plain$stderr), label = words[1])
    expect_identical(
      gsub("shuffled", "sorted", mixed$stdout), plain$stdout, label = words[1]
    )
  }
})

test_that("a calendar of some years is not used for others", {
  text <- list(
    calendar = "mill",
    zone = "Europe/Riga",
    weekdays = c("monday", "tuesday", "wednesday", "thursday", "friday"),
    sessions = list(regular = "08:00-16:00"),
    covers = list(from = 2020, until = 2026)
  )
  mill <- calendar_make(text)
  expect_identical(
    nrow(calendar_sessions(mill, "2026-12-28", "2026-12-31")), 4L
  )
  error <- expect_error_kind(
    calendar_sessions(mill, "2026-12-28", "2027-01-05"), "calendar", "2026"
  )
  expect_match(error$todo, "covers|calendar")
  expect_error_kind(
    calendar_times(mill, "1 hour", "2019-12-30", "2020-01-03"), "calendar",
    "2020"
  )
  expect_gt(
    length(calendar_times(mill, "1 hour", "2020-01-01", "2020-01-03")), 0
  )
  old <- points(c("2018-03-05", "2018-03-06"))
  expect_error_kind(
    series_gaps(old, calendar = mill, interval = "1 day"), "calendar"
  )
  bars <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("2031-03-12 07:00", tz = "UTC") + 60 * 0:9,
      open = 1,
      high = 1,
      low = 1,
      close = 1,
      volume = 1
    )
  )
  expect_error_kind(bars_resample(bars, "1 hour", calendar = mill), "calendar")
  for (wrong in list(
    list(from = 2026, until = 2020), list(from = "soon"), list(since = 2020)
  )) {
    broken <- text
    broken$covers <- wrong
    expect_error_kind(calendar_make(broken), "calendar")
  }
  # without `until` a calendar's rules hold for all years
  text$covers <- NULL
  expect_gt(
    nrow(calendar_sessions(calendar_make(text), "2099-01-01", "2099-12-31")),
    200
  )
})

test_that("instants of several zones are one line of time", {
  riga <- data.frame(
    series = "a",
    time = as.POSIXct("2026-03-12 10:00", tz = "Europe/Riga") + 3600 * 0:3,
    value = as.double(1:4)
  )
  utc <- data.frame(
    series = "b",
    time = as.POSIXct("2026-03-12 08:00", tz = "UTC") + 3600 * 0:3,
    value = as.double(11:14)
  )
  both <- series_align(riga, utc, grid = "intersection")
  expect_identical(nrow(as.data.frame(both)), 4L)
  expect_identical(as.numeric(both$time), as.numeric(utc$time))
  folder <- withr::local_tempdir()
  writeLines(
    c(
      "time,value", "2026-03-12T10:00:00+02:00,1", "2026-03-12T09:00:00Z,2",
      "2026-03-12T15:30:00+05:30,3"
    ),
    file.path(folder, "mixed.csv")
  )
  out <- run_vetusta(
    "change", "--input", "mixed.csv", "--change", "difference", folder = folder
  )
  expect_identical(out$status, 0L, info = out$stderr)
  expect_match(out$stdout, "2026-03-12T08:00:00Z")
  expect_match(out$stdout, "2026-03-12T10:00:00Z")
})
