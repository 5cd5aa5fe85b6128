# Universes in time: renames, mergers, lists of a day, index members.
renamed_archive <- function(env = parent.frame()) {
  archive <- new_archive(env = env)
  put <- function(symbol, days, close) {
    vetusta:::store_put(archive, list(
      source = "quay", dataset = "bars", shape = "bars", now = 1e9,
      rows = vetusta:::archive_parcel("bars", data.frame(
        symbol = symbol, close = close,
        time = as.POSIXct(days, tz = "UTC")
      ), frequency = "P1D")
    ))
  }
  days <- as.Date("2019-05-27") + 0:13
  put("GRVN", days[1:9], 1:9 + 0)
  # the new symbol, with two days of another company before
  put("GRAV", days[c(1, 2, 8:14)], c(900, 901, 8:14))
  put("KELD", days, 101:114 + 0)
  actions <- function(now) {
    vetusta:::store_put(archive, list(
      source = "quay", dataset = "actions", shape = "actions", now = now,
      rows = vetusta:::archive_parcel("actions", data.frame(
        symbol = c("GRVN", "PELL"), kind = c("rename", "merge"),
        ex_day = as.Date(c("2019-06-03", "2022-02-14")), ratio = c(NA, 0.6),
        successor = c("GRAV", "KELD"),
        announced = as.Date(c("2019-05-30", "2022-01-10"))
      ))
    ))
  }
  actions(1.1e9)
  archive
}

test_that("a renamed symbol is one history under either name", {
  archive <- renamed_archive()
  days <- as.Date("2019-05-27") + 0:13
  for (name in c("GRAV", "GRVN")) {
    bars <- archive_read(archive, paste0("quay/bars/", name))[[1]]
    expect_identical(unique(bars$symbol), name)
    expect_identical(as.Date(bars$time), days)
    expect_identical(bars$close, 1:14 + 0)
  }
  # together they are one, under the newest name
  both <- archive_read(archive, "quay/bars/*")[[1]]
  expect_identical(unique(both$symbol), c("GRAV", "KELD"))
  expect_identical(nrow(both), 28L)
  # before the announcement nobody knew
  then <- archive_read(archive, "GRVN", as_of = "2019-05-29")[[1]]
  expect_identical(then$close, 1:2 + 0)
  later <- archive_read(
    archive, "quay/bars/GRAV@1 day", as_of = "2019-05-29"
  )[[1]]
  expect_identical(later$close, c(900, 901))
  weeks <- archive_read(
    archive, "GRAV",
    resample = list(interval = "1 week")
  )[[1]]
  expect_identical(weeks$close, c(7, 14))
  # a window over the change
  some <- archive_read(
    archive, "GRAV", from = "2019-06-02", to = "2019-06-03"
  )[[1]]
  expect_identical(some$close, c(7, 8))
})

test_that("a scan in parts gives the same rows as a reading", {
  archive <- renamed_archive()
  whole <- archive_read(archive, "quay/bars/*")[[1]]
  parts <- archive_scan(archive, "quay/bars/*", identity, by = 1)
  order <- order(parts$symbol, parts$time)
  expect_identical(parts$symbol[order], whole$symbol)
  expect_identical(parts$close[order], whole$close)
})

test_that("a pack of a renamed symbol has its whole history", {
  archive <- renamed_archive()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "g.zip")
  desk_pack(archive, "quay/bars/GRAV@1 day", file)
  made <- pack_open(file, file.path(folder, "there"))
  expect_true(all(made$same), label = paste(format(made), collapse = "\n"))
  there <- archive_open(file.path(folder, "there", "archive.sqlite"))
  expect_identical(archive_read(there, "GRAV")[[1]]$close, 1:14 + 0)
})

test_that("names may follow each other, return and run in circles", {
  renames <- data.frame(
    old = c("A", "B", "C"), new = c("B", "C", "A"), start = c(10, 20, 30)
  )
  for (name in c("A", "B")) {
    names <- vetusta:::renames_of(name, renames)
    expect_identical(names$name, c("A", "B", "C", "A"))
    expect_identical(names$until, c(10, 20, 30, Inf))
  }
  expect_identical(
    vetusta:::renames_of("X", renames),
    data.frame(name = "X", from = -Inf, until = Inf)
  )
  one <- vetusta:::renames_of("C", renames[1:2, ])
  expect_identical(one$from, c(-Inf, 10, 20))
  expect_identical(one$until, c(10, 20, Inf))
})

test_that("renames and mergers change no price", {
  archive <- renamed_archive()
  bars <- archive_read(archive, "KELD")[[1]]
  actions <- archive_rows(archive, "quay", "actions")
  expect_identical(bars_adjust(bars, actions)$close, bars$close)
})

test_that("a directory of a day has what was listed then, and no more", {
  archive <- new_archive()
  put <- function(rows, now) {
    vetusta:::store_put(archive, list(
      source = "quay", dataset = "directory", shape = "instruments", now = now,
      rows = vetusta:::archive_parcel("instruments", rows)
    ))
  }
  put(data.frame(
    symbol = c("OLD", "GONE", "NOW", "NEW", "UNSAID"),
    first_day = as.Date(
      c("2010-01-04", "2012-01-02", "2012-01-02", "2021-01-04", NA)
    ),
    last_day = as.Date(c("2015-06-30", "2020-06-30", NA, NA, NA))
  ), as.numeric(as.POSIXct("2026-03-01", tz = "UTC")))
  list <- function(day) archive_rows(archive, "quay", "directory", as_of = day)
  expect_identical(list("2014-01-01")$symbol, c("GONE", "NOW", "OLD"))
  expect_true(all(is.na(list("2014-01-01")$last_day)))
  expect_identical(list("2019-06-30")$symbol, c("GONE", "NOW"))
  expect_identical(list("2021-06-30")$symbol, c("NEW", "NOW"))
  # known once it was collected
  expect_identical(list("2026-03-02")$symbol, c("NEW", "NOW", "UNSAID"))
  expect_identical(nrow(archive_rows(archive, "quay", "directory")), 5L)
  members <- archive_members(archive, "quay/directory", on = "2014-01-01")
  expect_setequal(members$symbol, c("GONE", "NOW", "OLD", "UNSAID"))
})

test_that("stations of a day are those that stood then", {
  archive <- new_archive()
  vetusta:::store_put(archive, list(
    source = "river", dataset = "stations", shape = "places",
    now = as.numeric(as.POSIXct("2026-03-01", tz = "UTC")),
    rows = vetusta:::archive_parcel("places", data.frame(
      place = c("weir", "ford", "bend"), north = 57,
      first = as.Date(c("1990-01-01", "1990-01-01", "2015-01-01")),
      last = as.Date(c(NA, "2005-12-31", NA))
    ))
  ))
  on <- function(day) archive_rows(archive, "river", "stations", as_of = day)
  expect_identical(on("2000-06-01")$place, c("ford", "weir"))
  expect_true(all(is.na(on("2000-06-01")$last)))
  expect_identical(on("2010-06-01")$place, "weir")
  expect_identical(nrow(on("1980-01-01")), 0L)
})

members_archive <- function(env = parent.frame()) {
  archive <- renamed_archive(env)
  vetusta:::store_put(archive, list(
    source = "quay", dataset = "members", shape = "members", now = 1.2e9,
    rows = vetusta:::archive_parcel("members", data.frame(
      list = "Q20", symbol = c("KELD", "KELD", "GRAV"),
      first_day = as.Date(c("2019-01-01", "2019-06-05", "2019-06-01")),
      last_day = as.Date(c("2019-05-31", NA, NA)),
      announced = as.Date(c("2018-12-20", "2019-05-25", "2019-05-22"))
    ))
  ))
  archive
}

test_that("members are those of the day, as they were known", {
  archive <- members_archive()
  on <- function(day) archive_members(archive, "quay/members/Q20", day)
  expect_identical(on("2019-05-30")$symbol, "KELD")
  expect_true(is.na(on("2019-05-30")$last_day))
  expect_identical(on("2019-06-02")$symbol, "GRAV")
  expect_identical(on("2019-06-05")$symbol, c("GRAV", "KELD"))
  expect_identical(nrow(on("2018-01-01")), 0L)
  expect_error_kind(
    archive_members(archive, "quay/members"), "argument", "quay/members/Q20"
  )
  expect_error_kind(archive_members(archive, "quay/members/Q2"), "argument")
  expect_error_kind(archive_members(archive, "quay"), "argument")
})

# A reference by its definition: each value alone.
test_that("series have values while they are members", {
  archive <- members_archive()
  members <- archive_members(archive, "quay/members/Q20")
  bars <- archive_read(archive, "quay/bars/*")[[1]]
  kept <- series_members(bars, members)
  day <- as.Date(bars$time)
  wanted <- vapply(seq_len(nrow(bars)), function(i) {
    of <- members[members$symbol == bars$symbol[i], ]
    any(day[i] >= of$first_day & (is.na(of$last_day) | day[i] <= of$last_day))
  }, TRUE)
  expect_identical(as.data.frame(kept), as.data.frame(bars[wanted, ]))
  wide <- series_align(bars, grid = "union", point_in_time = FALSE)
  masked <- series_members(wide, members)
  expect_identical(
    is.na(masked$KELD), as.Date(wide$time) >= as.Date("2019-06-01") &
      as.Date(wide$time) < as.Date("2019-06-05")
  )
  expect_error_kind(series_members(bars, data.frame(a = 1)), "shape")
  expect_error_kind(series_members(data.frame(a = 1), members), "shape")
})

test_that("the exchange has renames, a merger and members that change", {
  services <- start_services()
  archive <- new_archive()
  source <- source_card("quay", url = services$url)
  withr::local_envvar(QUAY_KEY = "quay-demo-7f3a91")
  collect <- function(query) {
    collect_run(plan_requests(query, archive), archive, progress = FALSE)
  }
  collect(query_rows(source, "actions"))
  collect(query_rows(source, "members"))
  done <- collect(query_rows(source, "directory"))
  expect_identical(sum(archive_rows(archive, "quay", "directory")$symbol ==
    "OLDM"), 2L)
  collect(query_bars(
    source, "OLDM", "1 day", from = "2018-09-20", to = "2021-01-08"
  ))
  oldmere <- archive_read(archive, "OLDM")[[1]]
  gaps <- series_gaps(oldmere, listed = data.frame(
    symbol = c("OLDM", "OLDM to 2018-09-30"),
    listed = as.Date(c("2021-01-04", "2010-01-04")),
    delisted = as.Date(c(NA, "2018-09-30"))
  ))
  expect_identical(
    sort(unique(gaps$reason)), c("after the last day", "before listing")
  )
  done <- collect(query_bars(
    source, c("GRVN", "GRAV", "PELL"), "1 day",
    from = "2019-05-01", to = "2022-03-31"
  ))
  bars <- archive_read(archive, "GRAV")[[1]]
  days <- calendar_times(
    source_calendar("quay"), "1 day",
    from = "2019-05-01", to = "2022-03-31"
  )
  expect_identical(as.numeric(bars$time), as.numeric(days))
  expect_identical(
    archive_read(archive, "GRVN")[[1]]$close, bars$close
  )
  # one walk: no jump at the change of the name
  expect_lt(max(abs(diff(log(bars$close)))), 0.2)
  expect_identical(
    as.Date(max(archive_read(archive, "PELL")[[1]]$time)), as.Date("2022-02-11")
  )
  for (day in c("2016-06-01", "2019-06-30", "2024-01-02", "2026-03-26")) {
    expect_identical(
      nrow(archive_members(archive, "quay/members/Q20", day)), 20L
    )
  }
  old <- archive_members(archive, "quay/members/Q20", "2019-06-30")$symbol
  new <- archive_members(archive, "quay/members/Q20", "2026-03-26")$symbol
  expect_true("PELL" %in% old && !"PELL" %in% new)
})

test_that("code lists are kept whenever they change", {
  archive <- new_archive()
  codes <- function(...) {
    id <- c(...)
    list(CARGO = list(
      id = id, parent = rep(NA_character_, length(id)),
      labels = list(en = paste("Cargo", id))
    ))
  }
  put <- function(list, at) {
    vetusta:::archive_codes_put(archive, "basin", "TRAFFIC", list)
    vetusta:::sql_do(
      archive,
      "UPDATE structures SET fetched = ? WHERE url = ? AND fetched > ?",
      list(
        as.numeric(as.POSIXct(at, tz = "UTC")), "labels:TRAFFIC",
        as.numeric(Sys.time()) - 60
      )
    )
  }
  put(codes("A", "B"), "2025-01-01")
  put(codes("A", "B"), "2025-02-01")
  put(codes("A", "C"), "2025-03-01")
  now <- archive_codes(archive, "basin", "TRAFFIC")
  expect_identical(now$code, c("A", "C"))
  expect_identical(as.Date(now$known), as.Date(c("2025-01-01", "2025-03-01")))
  expect_identical(now$en, c("Cargo A", "Cargo C"))
  then <- archive_codes(archive, "basin", "TRAFFIC", as_of = "2025-02-15")
  expect_identical(then$code, c("A", "B"))
  expect_identical(
    nrow(archive_codes(archive, "basin", "TRAFFIC", as_of = "2024-01-01")), 0L
  )
  expect_identical(
    vetusta:::archive_labels(archive, "basin", "TRAFFIC"), codes("A", "C")
  )
  expect_error_kind(archive_codes(archive, "basin", "NONE"), "argument")
})

test_that("a symbol that two companies had is two histories", {
  archive <- new_archive()
  list_of <- function(symbol, name, first, last) {
    data.frame(
      symbol = symbol, name = name, first_day = as.Date(first),
      last_day = as.Date(last)
    )
  }
  put <- function(rows, now) {
    vetusta:::store_put(archive, list(
      source = "quay", dataset = "directory", shape = "instruments", now = now,
      rows = vetusta:::archive_parcel("instruments", rows)
    ))
  }
  mills <- list_of("OLDM", "Oldmere Mills", "2010-01-04", "2018-09-30")
  towage <- list_of("OLDM", "Oldmere Towage", "2021-01-04", NA)
  keld <- list_of("KELD", "Keld Shipping", "2010-01-04", NA)
  days <- as.Date(c("2018-09-27", "2018-09-28", "2021-01-04", "2021-01-05"))
  bars <- function(archive) {
    vetusta:::store_put(archive, list(
      source = "quay", dataset = "bars", shape = "bars", now = 1e9,
      rows = vetusta:::archive_parcel("bars", data.frame(
        symbol = "OLDM", close = c(10, 11, 60, 66),
        time = as.POSIXct(days, tz = "UTC")
      ), frequency = "P1D")
    ))
  }
  bars(archive)
  # in any order and number of pages, again or not
  pages <- list(
    list(rbind(mills, towage, keld)), list(rbind(towage, keld, mills)),
    list(mills, towage), list(towage, mills), list(towage, mills, towage),
    list(list_of("OLDM", "Oldmere Mills", "2010-01-04", NA), mills, towage)
  )
  for (some in pages) {
    archive <- new_archive()
    bars(archive)
    for (i in seq_along(some)) put(some[[i]], 1.7e9 + i)
    rows <- archive_rows(archive, "quay", "directory")
    rows <- rows[rows$symbol == "OLDM", ]
    expect_identical(rows$name, c("Oldmere Mills", "Oldmere Towage"))
    expect_identical(rows$last_day, as.Date(c("2018-09-30", NA)))
    then <- archive_rows(archive, "quay", "directory", as_of = "2018-06-30")
    expect_identical(then$name[then$symbol == "OLDM"], "Oldmere Mills")
    expect_identical(
      archive_members(archive, "quay/directory", on = "2021-06-30")$symbol,
      unique(c(if (length(some) == 1) "KELD", "OLDM"))
    )
    read <- archive_read(archive, "OLDM")[[1]]
    expect_identical(
      read$symbol, rep(c("OLDM", "OLDM to 2018-09-30"), each = 2)
    )
    expect_identical(read$close, c(60, 66, 10, 11))
    expect_identical(
      attr(read, "title")[["OLDM to 2018-09-30"]], "Oldmere Mills"
    )
    expect_identical(attr(read, "title")[["OLDM"]], "Oldmere Towage")
  }
  # no change from one company to the other
  expect_identical(sum(!is.na(series_change(read)$value)), 2L)
  # before the second one, the symbol was the first one's
  then <- archive_read(archive, "OLDM", as_of = "2019-01-01")[[1]]
  expect_identical(then$symbol, rep("OLDM", 2))
  weeks <- archive_read(archive, "OLDM", resample = list(interval = "1 week"))
  expect_identical(weeks[[1]]$close, c(66, 11))
  # both are members of the list on their days
  members <- archive_members(archive, "quay/directory")
  expect_identical(nrow(series_members(read, members)), 4L)
  wide <- series_members(series_align(read, grid = "1 day"), members)
  expect_identical(sum(!is.na(unlist(wide[-1]))) >= 4, TRUE)
  # an action of one is none of the other
  split <- data.frame(
    symbol = "OLDM", kind = "split", ratio = 2,
    ex_day = as.Date(c("2018-09-28", "2021-01-05"))
  )
  adjusted <- bars_adjust(read, split)
  expect_equal(adjusted$close, c(30, 66, 5, 11))
  # another first day of the same company is a correction
  late <- list_of("OLDM", "Oldmere Towage", "2021-01-05", NA)
  put(late, 1.8e9)
  rows <- archive_rows(archive, "quay", "directory")
  expect_identical(rows$first_day, as.Date(c("2010-01-04", "2021-01-05")))
  # a station that measures again is one place
  stations <- function(first, last, now) {
    vetusta:::store_put(archive, list(
      source = "river", dataset = "stations", shape = "places", now = now,
      rows = vetusta:::archive_parcel("places", data.frame(
        place = "kelder", name = "Kelder", first = as.Date(first),
        last = as.Date(last)
      ))
    ))
  }
  stations("1990-01-01", "2001-01-01", 1.7e9)
  stations("2005-01-01", NA, 1.8e9)
  expect_identical(nrow(archive_rows(archive, "river", "stations")), 1L)
  # a company that was listed again under its name is one
  again <- new_archive()
  bars(again)
  archive <- again
  put(rbind(mills, list_of("OLDM", "Oldmere Mills", "2021-01-04", NA)), 1.7e9)
  expect_identical(unique(archive_read(again, "OLDM")[[1]]$symbol), "OLDM")
})
