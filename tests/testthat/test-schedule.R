# When queries are due: the words against instants counted by hand, and against
# minutes tried one by one; crontabs, with cron itself if it is installed.
due <- function(text, from, to, calendar = source_calendar("quay")) {
  at <- vetusta:::desk_instants(
    vetusta:::desk_times(text), as.POSIXct(from, tz = "UTC"),
    as.POSIXct(to, tz = "UTC"), calendar
  )
  format(at, "%Y-%m-%d %H:%M", tz = "UTC")
}

test_that("words become the instants they mean, in summer and in winter", {
  expect_identical(
    due("at 18:30 Europe/Riga on trading days", "2026-03-26", "2026-04-01"),
    c(
      "2026-03-26 16:30", "2026-03-27 16:30", "2026-03-30 15:30",
      "2026-03-31 15:30"
    )
  )
  # Thaw Day is closed
  expect_identical(
    due("at 18:30 on trading days", "2026-03-19", "2026-03-23"),
    "2026-03-19 16:30"
  )
  expect_identical(
    due("4 times a day UTC", "2026-03-12", "2026-03-13"),
    c(
      "2026-03-12 06:00", "2026-03-12 12:00", "2026-03-12 18:00",
      "2026-03-13 00:00"
    )
  )
  expect_identical(
    due(
      "twice a day between 8:00 and 20:00 UTC on weekdays", "2026-03-13",
      "2026-03-16 12:00"
    ),
    c("2026-03-13 08:00", "2026-03-13 14:00", "2026-03-16 08:00")
  )
  expect_identical(
    due(
      "at 7:00, 12:30 UTC on monday and friday", "2026-03-12",
      "2026-03-16 23:00"
    ),
    c(
      "2026-03-13 07:00", "2026-03-13 12:30", "2026-03-16 07:00",
      "2026-03-16 12:30"
    )
  )
  session <- due(
    "every 5 minutes in the regular session", "2026-03-12", "2026-03-13"
  )
  expect_identical(length(session), 79L)
  expect_identical(session[c(1, 79)], c("2026-03-12 07:30", "2026-03-12 14:00"))
  expect_identical(
    due("every 6 hours UTC", "2026-03-12", "2026-03-12 13:00"),
    c("2026-03-12 06:00", "2026-03-12 12:00")
  )
  # a skipped hour in spring comes once, and so does a repeated hour in autumn
  expect_length(
    due("at 3:30 Europe/Riga", "2026-03-28 12:00", "2026-03-29 12:00"), 1
  )
  expect_length(
    due("at 3:30 Europe/Riga", "2026-10-24 12:00", "2026-10-25 12:00"), 1
  )
})

test_that("what never occurs is refused", {
  wrong <- function(text, pattern) {
    expect_error_kind(vetusta:::desk_times(text), "desk", pattern)
  }
  wrong("at 24:00", "24:00")
  wrong("at noon", "cannot be read")
  wrong("at 9:00 Mars/Base", "Mars/Base")
  wrong("at 9:00 on caturday", "never occurs")
  wrong("every 30 seconds", "every minute")
  wrong("every 2 days", "every day")
  wrong("0 times a day", "times a day")
  wrong("at 9:00 in the regular session", "session")
  wrong("3 times a day between 20:00 and 8:00", "between")
  expect_error_kind(
    due("every 5 minutes in the night session", "2026-03-12", "2026-03-13"),
    "desk", "never occurs"
  )
  expect_error_kind(
    due("at 9:00 on trading days", "2026-03-12", "2026-03-13", NULL), "desk",
    "calendar"
  )
})

timed_desk <- function(times, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk_make(folder, cards = c("quay", "river"))
  desk_track(
    desk_open(folder), "shares", "quay", symbols = "KELD", interval = "1 day",
    span = "1 year", times = times
  )
}

# Whether a line of a crontab fires at an instant, by the definition in its
# manual.
fires <- function(line, at, zone) {
  fields <- strsplit(line, " ")[[1]][1:5]
  local <- as.POSIXlt(at, tz = zone)
  within <- function(field, value) {
    if (field == "*") return(rep(TRUE, length(value)))
    parts <- strsplit(strsplit(field, ",")[[1]], "-")
    value %in%
      unlist(
        lapply(
          parts, function(x) seq(as.numeric(x[1]), as.numeric(x[length(x)]))
        )
      )
  }
  within(fields[1], local$min) &
    within(fields[2], local$hour) &
    within(fields[5], local$wday)
}

test_that("a crontab fires at every due instant, in any zone", {
  for (times in c(
    "at 18:30 Europe/Riga on trading days",
    "every 5 minutes in the regular session", "4 times a day",
    "at 7:00 on monday, friday"
  )) {
    desk <- timed_desk(times)
    for (zone in c("UTC", "America/New_York", "Asia/Kolkata")) {
      lines <- vetusta:::desk_crontab(desk, zone)
      all <- vetusta:::utc(vetusta:::desk_all_instants(desk))
      hit <- Reduce(`|`, lapply(lines, fires, at = all, zone = zone))
      expect_true(all(hit), info = paste(times, zone))
      # and not always
      minutes <- vetusta:::utc(1.8e9 + 60 * seq_len(20000))
      fired <- Reduce(`|`, lapply(lines, fires, at = minutes, zone = zone))
      expect_lt(mean(fired), 0.15)
    }
  }
})

test_that("crontab lines of a desk are added and removed alone", {
  desk <- timed_desk("at 7:00")
  others <- c("MAILTO=me", "", "# mine", "0 1 * * * echo %d")
  own <- vetusta:::desk_crontab(desk, "UTC")
  with <- vetusta:::crontab_with(others, desk, own)
  expect_identical(with[1:4], others)
  expect_identical(vetusta:::crontab_with(with, desk, own), with)
  another <- timed_desk("at 8:00")
  both <- vetusta:::crontab_with(with, another, "x")
  expect_identical(
    vetusta:::crontab_with(both, desk, character()),
    c(others, setdiff(both, with))
  )
  expect_identical(vetusta:::crontab_with(with, desk, character()), others)
  expect_error_kind(
    vetusta:::crontab_with(with[-length(with)], desk, own), "desk", "edited"
  )
  units <- vetusta:::desk_units(timed_desk("at 18:30 Europe/Riga on weekdays"))
  expect_match(
    paste(units[[2]], collapse = "\n"),
    "OnCalendar=Mon,Tue,Wed,Thu,Fri [*]-[*]-[*] 18:30:00 Europe/Riga"
  )
  expect_true("Persistent=true" %in% units[[2]])
})

test_that("a missed time stays due until a refresh", {
  desk <- timed_desk("at 7:00 UTC")
  now <- as.POSIXct("2026-03-12 09:00", tz = "UTC")
  found <- desk_schedule(desk, now)
  expect_identical(found$last, as.POSIXct("2026-03-12 07:00", tz = "UTC"))
  expect_identical(found$next_due, as.POSIXct("2026-03-13 07:00", tz = "UTC"))
  expect_true(found$due)
  archive <- archive_open(desk$archive)
  begun <- function(at) {
    vetusta:::store_note(
      archive, "begun", "quay", "", "shares", "", as.numeric(at)
    )
  }
  begun(now - 3600)
  expect_false(desk_schedule(desk, now)$due)
  # the machine was off for two days
  expect_true(desk_schedule(desk, now + 2 * 86400)$due)
  begun(now + 2 * 86400)
  expect_false(desk_schedule(desk, now + 2 * 86400 + 60)$due)
  archive_close(archive)
})

test_that("logs rotate, failures run a command, no secret appears", {
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "quay",
    urls = list(quay = "http://127.0.0.1:9/quay"),
    secrets = list(QUAY_KEY = "hidden-key-1")
  )
  cat(
    paste0(
      "on_failure: echo \"$VETUSTA_MESSAGE\" > told\nlog: ",
      "runs.log\ntrack:\n  a: {source: quay, "
    ),
    "dataset: market, times: at 0:00}\n",
    file = file.path(folder, "desk.yml"),
    append = TRUE,
    sep = ""
  )
  run <- run_vetusta("refresh", "--due", "--log", folder = folder)
  expect_identical(run$status, 1L)
  expect_identical(run$stdout, "")
  log <- readLines(file.path(folder, "runs.log"))
  expect_match(log[length(log)], "ended with status 1")
  expect_match(paste(log, collapse = " "), "Nothing answers")
  expect_match(
    paste(readLines(file.path(folder, "told")), collapse = " "),
    "Nothing answers"
  )
  expect_false(
    any(grepl("hidden-key", c(log, readLines(file.path(folder, "told")))))
  )
  # a desk without queries refreshes well
  fine <- desk_make(file.path(folder, "fine"))
  cat(
    "on_success: echo \"$VETUSTA_DESK\" > done\n",
    file = file.path(fine$folder, "desk.yml"), append = TRUE
  )
  run <- run_vetusta("refresh", "--log", folder = fine$folder)
  expect_identical(run$status, 0L)
  expect_match(readLines(file.path(fine$folder, "done")), "fine$")
  file <- file.path(folder, "long.log")
  for (i in 1:7) {
    writeLines(strrep("x", 1.1e6), file)
    vetusta:::log_write(file, paste("line", i))
  }
  expect_setequal(
    list.files(folder, "^long"), c("long.log", paste0("long.log.", 1:4))
  )
  expect_match(readLines(file), "line 7$")
})

test_that("while one refresh runs another waits or gives way, as it is said", {
  folder <- withr::local_tempdir()
  desk <- desk_make(folder, cards = "quay")
  archive <- archive_open(desk$archive)
  turn <- function(...) vetusta:::refresh_turn(desk, ...)
  expect_true(turn("skip"))
  other <- processx::process$new("sleep", "60")
  withr::defer(other$kill())
  own <- vetusta:::this_process()
  vetusta:::sql_do(
    archive,
    "INSERT OR REPLACE INTO claims (request, host, process, began, since)
    VALUES (?, ?, ?, ?, ?)",
    list(
      paste("refresh", desk$folder), own$host, other$get_pid(),
      as.numeric(ps::ps_create_time(ps::ps_handle(other$get_pid()))),
      as.numeric(Sys.time())
    )
  )
  expect_false(turn("skip"))
  expect_true(turn("share"))
  expect_false(turn("wait", most = 1))
  other$kill()
  expect_true(turn("wait", most = 30))
  archive_close(archive)
})

test_that("cron itself runs what is due", {
  skip_if_not(
    nzchar(Sys.which("cron")) &&
      nzchar(Sys.which("crontab")) &&
      Sys.info()[["user"]] == "root",
    "there is no cron that this test may start"
  )
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "quay",
    urls = list(quay = services$url),
    secrets = vetusta:::standin_keys
  )
  run_vetusta(
    "track", "quay", "directory", "sector=barges", "--times", "every 1 minute",
    "--every", "1 minute", folder = folder
  )
  before <- suppressWarnings(
    system2("crontab", "-l", stdout = TRUE, stderr = FALSE)
  )
  withr::defer({
    if (length(before)) {
      system2("crontab", "-", input = before)
    } else {
      system2("crontab", "-r", stdout = FALSE, stderr = FALSE)
    }
  })
  system2("crontab", "-", input = c(before, "# mine", "0 0 1 1 * true"))
  installed <- run_vetusta("schedule", "--install", folder = folder)
  expect_identical(installed$status, 0L, info = installed$stderr)
  # if cron is running already, it is used
  running <- length(
        suppressWarnings(system2("pgrep", c("-x", "cron"), stdout = TRUE))
      ) >
      0
  cron <- if (!running) processx::process$new("cron", "-f", cleanup = TRUE)
  withr::defer(if (!is.null(cron)) cron$kill())
  log <- file.path(folder, "refresh.log")
  end <- Sys.time() + 150
  while (Sys.time() < end && !file.exists(log)) Sys.sleep(1)
  expect_true(file.exists(log))
  while (Sys.time() < end && !any(grepl("status", readLines(log)))) Sys.sleep(1)
  expect_match(paste(readLines(log), collapse = " "), "ended with status 0")
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  expect_gt(nrow(archive_rows(archive, "quay", "directory")), 10)
  archive_close(archive)
  expect_identical(
    run_vetusta("schedule", "--remove", folder = folder)$status, 0L
  )
  expect_identical(
    system2("crontab", "-l", stdout = TRUE),
    c(before, "# mine", "0 0 1 1 * true")
  )
})
