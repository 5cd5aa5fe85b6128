# Collected data is not requested again, whatever its shape, and an interrupted
# collection continues.
station_card <- function(url, env = parent.frame()) {
  write_card(
    url,
    c(
      "request: /levels/{station}{?from,to,offset}",
      "parameters: {from: {as: day}, to: {as: day}}", "rows: /items",
      "next_page: {by: offset, send: offset, total: /total}",
      paste0(
        "columns: {series: {of: station}, period: {at: /day, as: day}, ",
        "value: {at: /level, as: number}}"
      )
    ),
    env = env
  )
}

start_stations <- function(log, env = parent.frame()) {
  start_scripted(
    eval(bquote(function(n, request) {
      cat(
        request$PATH_INFO, request$QUERY_STRING, "\n", file = .(log),
        append = TRUE
      )
      from <- as.Date(asked(request, "from"))
      days <- seq(from, as.Date(asked(request, "to")), by = 1)
      offset <- as.numeric(asked(request, "offset") %||% 0)
      rows <- utils::head(utils::tail(days, length(days) - offset), 10)
      json_answer(list(
        items = lapply(rows, function(day) {
          list(day = format(as.Date(day, origin = "1970-01-01")), level = 100)
        }),
        total = length(days)
      ))
    })),
    env = env
  )
}

test_that("windows of rows: covered, resumed, requested when missing", {
  log <- withr::local_tempfile()
  card <- station_card(start_stations(log))
  sed <- readLines(card)
  writeLines(sub("shape: table", "shape: observations", sed), card)
  source <- source_card(card)
  archive <- new_archive()
  stations <- sprintf("station-%02d", 1:6)
  collect <- function(to = "2026-01-25", pages = Inf) {
    unlink(log)
    plan <- plan_requests(
      query_rows(
        source, "rows", station = stations, from = "2026-01-01", to = to
      ),
      archive
    )
    list(
      plan = plan,
      run = collect_run(plan, archive, progress = FALSE, requests = pages),
      asked = if (file.exists(log)) readLines(log) else character()
    )
  }
  seen <- character()
  for (round in 1:4) {
    got <- collect(pages = 4)
    expect_false(any(got$asked %in% seen), label = paste("round", round))
    seen <- c(seen, got$asked)
  }
  last <- collect()
  expect_identical(length(seen) + length(last$asked), 18L)
  expect_identical(nrow(archive_rows(archive, "test", "rows")), 150L)
  again <- collect()
  expect_identical(length(again$asked), 0L)
  expect_identical(nrow(again$plan$requests), 0L)
  more <- collect(to = "2026-01-28")
  expect_identical(length(more$asked), 6L)
  expect_match(more$asked, "from=2026-01-26", all = TRUE)
})

test_that("pending values are requested again, settled ones are not", {
  log <- withr::local_tempfile()
  card <- station_card(start_stations(log))
  writeLines(sub("shape: table", "shape: observations", readLines(card)), card)
  source <- source_card(card)
  archive <- new_archive()
  today <- Sys.Date()
  # the service has no data of the last days: the query ends today
  query <- function() {
    query_rows(source, "rows", station = "a", from = today - 30, to = today - 1)
  }
  collect_run(plan_requests(query(), archive), archive, progress = FALSE)
  vetusta:::sql_do(
    archive, "UPDATE coverage SET end = ?",
    list(as.numeric(as.POSIXct(today - 14, tz = "UTC")))
  )
  expect_identical(nrow(plan_requests(query(), archive)$requests), 1L)
  expect_gte(as.Date(plan_requests(query(), archive)$requests$from), today - 15)
})

test_that("new ranges come before updates, for rows and bars", {
  log <- withr::local_tempfile()
  card <- station_card(start_stations(log))
  writeLines(sub("shape: table", "shape: observations", readLines(card)), card)
  archive <- new_archive()
  seen <- character()
  for (i in 1:4) {
    # each query ends now: only the newest hours are missing
    plan <- plan_requests(
      query_rows(
        source_card(card), "rows", station = letters[1:8], from = Sys.Date() - 5
      ),
      archive
    )
    collect_run(plan, archive, progress = FALSE, requests = 2)
  }
  expect_setequal(
    sub("^/levels/([a-h]) .*", "\\1", readLines(log)), letters[1:8]
  )
  url <- start_scripted(function(n, request) {
    json_answer(
      list(
        items = list(
          list(
            t = as.numeric(asked(request, "from")) + 60,
            o = 1,
            h = 1,
            l = 1,
            c = 1
          )
        )
      )
    )
  })
  source <- source_card(plain_card(url))
  for (i in 1:4) {
    query <- query_bars(source, letters[1:8], "1 minute", span = "2 hours")
    collect_run(
      plan_requests(query, archive), archive, progress = FALSE, requests = 2
    )
  }
  expect_setequal(unique(archive_series(archive)$key), letters[1:8])
})

test_that("two collectors of one window make each request once", {
  log <- withr::local_tempfile()
  card <- station_card(start_stations(log))
  writeLines(sub("shape: table", "shape: observations", readLines(card)), card)
  path <- withr::local_tempfile(fileext = ".sqlite")
  archive_close(archive_open(path))
  code <- sprintf(
    "library(vetusta); a <- archive_open('%s');
        w <- query_rows(source_card('%s'), 'rows', station = letters[1:10],
        from = Sys.Date() - 60)
    collect_run(plan_requests(w, a), a, progress = FALSE)",
    path, card
  )
  both <- lapply(1:2, function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      env = c("current", R_LIBS = r_libs())
    )
  })
  for (process in both) process$wait()
  expect_identical(
    vapply(both, function(process) process$get_exit_status(), 1L), c(0L, 0L)
  )
  asked <- sub("(from=[0-9-]+).*offset", "\\1 offset", readLines(log))
  whole <- asked[grepl(format(Sys.Date() - 60), asked)]
  expect_identical(anyDuplicated(whole), 0L)
})

test_that("rows without a window go in rounds", {
  log <- withr::local_tempfile()
  url <- start_scripted(eval(bquote(function(n, request) {
    cat(request$QUERY_STRING, "\n", file = .(log), append = TRUE)
    json_answer(list(items = list(list(id = asked(request, "letter")))))
  })))
  source <- source_card(
    write_card(
      url, c("request: /rows{?letter}", "rows: /items", "columns: {id: /id}")
    )
  )
  archive <- new_archive()
  collect <- function(pages = Inf) {
    collect_run(
      plan_requests(
        query_rows(source, "rows", letter = letters[1:10]), archive
      ),
      archive, progress = FALSE, requests = pages
    )
  }
  for (i in 1:3) collect(pages = 4)
  expect_identical(
    sort(sub(".*letter=([a-z]).*", "\\1", readLines(log))), letters[1:10]
  )
  expect_identical(collect()$pages, 10)
  # a killed collector leaves its round open, and the next one continues it
  unlink(log)
  # nolint
  code <- sprintf(
    paste0(
      "library(vetusta); a <- archive_open('%s'); s <- ",
      "source_card('%s'); p <- ",
      paste0(
        paste0(
          "plan_requests(query_rows(s, 'rows', letter = ",
          "letters[1:10]), a); state <- ", "0; trace "
        ),
        "<- collect_run(p, a, progress = FALSE, requests = 5); ",
        "tools::pskill(Sys.getpid(), 9)"
      )
    ),
    archive$path, source$file
  )
  processx::run(
    "Rscript",
    c("--no-init-file", "-e", code),
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE
  )
  expect_identical(
    nrow(
      plan_requests(
        query_rows(source, "rows", letter = letters[1:10]), archive
      )$requests
    ),
    5L
  )
  collect()
  expect_identical(
    sort(sub(".*letter=([a-z]).*", "\\1", readLines(log))), letters[1:10]
  )
})

test_that("a key that is named twice has the values of both", {
  url <- start_scripted(function(n, request) {
    json_answer(list(items = list(list(id = asked(request, "letter")))))
  })
  source <- source_card(
    write_card(
      url, c("request: /rows{?letter}", "rows: /items", "columns: {id: /id}")
    )
  )
  expect_identical(
    query_rows(source, "rows", letter = "a", letter = c("b", "c"))$keys$letter,
    c("a", "b", "c")
  )
  expect_identical(
    vetusta:::cli_pairs(c("station=a", "station=b,c", "x=1")),
    list(station = c("a", "b", "c"), x = "1")
  )
})

test_that("planning reads archive and calendar once for all symbols", {
  quay <- source_card("quay")
  archive <- new_archive()
  symbols <- sprintf("S%05d", 1:3000)
  vetusta:::store_transaction(archive, function() {
    ends <- as.numeric(as.POSIXct(c("2020-01-01", "2027-01-01"), tz = "UTC"))
    vetusta:::sql_do(
      archive, "INSERT INTO coverage VALUES ('quay', 'bars', ?, ?, ?)",
      list(
        vetusta:::bars_cover_key(symbols, "P1D", "regular"),
        rep(ends[1], 3000), rep(ends[2], 3000)
      )
    )
  })
  counted <- new.env()
  for (name in c("sql_get", "calendar_definition")) {
    counted[[name]] <- 0
    suppressMessages(
      trace(
        name,
        eval(
          bquote(
            quote(assign(.(name), get(.(name), .(counted)) + 1, .(counted)))
          )
        ),
        where = asNamespace("vetusta"),
        print = FALSE
      )
    )
  }
  withr::defer(
    suppressMessages(
      untrace(
        c("sql_get", "calendar_definition"),
        where = asNamespace("vetusta")
      )
    )
  )
  plan <- plan_requests(
    query_bars(quay, symbols, "1 day", from = "2026-01-05", to = "2026-03-12"),
    archive
  )
  expect_identical(nrow(plan$requests), 0L)
  expect_lte(counted$sql_get, 5)
  expect_lte(counted$calendar_definition, 1)
  expect_gt(counted$sql_get, 0)
})
