# Exports that are requested and fetched later, in the ways of various services.
job_card <- function(url, job, extra = character(), env = parent.frame()) {
  bars_card(
    url,
    c(
      extra, "datasets:", "  history:", "    shape: bars", "    method: POST",
      "    request: /exports/{symbol}{?from,to}", "    format: csv",
      paste0("    job: ", job),
      "    columns: {time: {at: /t, as: rfc3339}, close: /c}"
    ),
    env
  )
}
job_days <- sprintf("2026-03-%02dT07:30:00Z", 2:6)
job_table <- function(first = 1) {
  paste0("t,c\n", paste0(job_days, ",", first + 0:4, "\n", collapse = ""))
}
collect_history <- function(card, symbols = "KELD", archive = NULL, ...,
                            env = parent.frame()) {
  collect_bars(
    card, symbols, "1 day", "2026-03-01", "2026-03-08", archive, ..., env = env
  )
}
# a scripted server needs the objects that its answers use
serve <- function(answer, ..., env = parent.frame()) {
  environment(
    answer
  ) <- list2env(
    list(
      job_table = job_table, job_days = job_days, table_answer = table_answer,
      ...
    ),
    parent = globalenv()
  )
  start_scripted(answer, env = env)
}
table_answer <- function(text, headers = list(), status = 200L) {
  list(
    status = status,
    headers = c(list("Content-Type" = "text/csv"), headers),
    body = text
  )
}
paths <- function(journal) {
  paste(journal$outcome, sub("^http://[^/]*", "", journal$url))
}

test_that("a job's Location header and HTTP 202", {
  url <- serve(function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer("", list(Location = "/jobs/7"), 202L))
    }
    if (n < 4) return(json_answer("", list("Retry-After" = "1"), 202L))
    table_answer(job_table())
  })
  got <- collect_history(job_card(url, "{look: location, pause: PT1S}"))
  expect_identical(got$bars$close, as.numeric(1:5))
  expect_identical(got$run$left, 0)
  expect_identical(sum(grepl("/exports/", got$journal$url)), 1L)
  # stored data is not requested again
  expect_identical(
    collect_history(
      job_card(url, "{look: location}"), archive = got$archive
    )$run$pages,
    0
  )
})

test_that("an export that is not ready ends the run; the next polls again", {
  url <- serve(function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = "t1")))
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      return(
        json_answer(
          list(state = if (n < 5) "working" else "done", link = "/file.csv")
        )
      )
    }
    table_answer(job_table())
  })
  card <- job_card(
    url,
    paste0(
      "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
      "ready: done, link: /link, ", "pause: PT1S}"
    )
  )
  first <- collect_history(card, wait = 0.5)
  expect_identical(first$run$left, 1)
  expect_s3_class(first$run$resume, "POSIXct")
  expect_null(first$bars)
  second <- collect_history(card, archive = first$archive, wait = 60)
  expect_identical(second$bars$close, as.numeric(1:5))
  expect_identical(sum(grepl("/exports/", second$journal$url)), 1L)
})

test_that("a failed export is a failure of its symbol", {
  url <- serve(function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = basename(request$PATH_INFO))))
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      return(json_answer(list(
        state = if (grepl("KELD", request$PATH_INFO) && n < 4) {
          "failed"
        } else {
          "done"
        },
        link = "/file.csv"
      )))
    }
    table_answer(job_table())
  })
  card <- job_card(
    url,
    paste0(
      "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
      "ready: done, failed: ", "failed, link: /link}"
    )
  )
  first <- collect_history(card, c("KELD", "TAMX"))
  expect_identical(first$run$failed$symbol, "KELD")
  expect_match(first$run$failed$what, "failed")
  expect_identical(
    archive_bars(first$archive, "TAMX", "1 day")$close, as.numeric(1:5)
  )
  second <- collect_history(card, c("KELD", "TAMX"), archive = first$archive)
  expect_identical(nrow(second$run$failed), 0L)
  expect_identical(nrow(second$bars), 10L)
})

test_that("expired tickets, missing tickets and foreign links", {
  forgotten <- serve(function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = "gone")))
    }
    json_answer(list(error = "no such ticket"), status = 404L)
  })
  card <- function(url, extra = character()) {
    job_card(
      url,
      paste0(
        "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
        "ready: done, link: /link}"
      ),
      extra
    )
  }
  first <- collect_history(card(forgotten))
  expect_match(first$run$failed$what, "no such ticket")
  expect_identical(
    sum(
      grepl(
        "/exports/",
        collect_history(card(forgotten), archive = first$archive)$journal$url
      )
    ),
    2L
  )
  none <- serve(function(n, request) json_answer(list(other = 1)))
  expect_match(
    collect_history(card(none))$run$failed$what, "no ticket at /ticket"
  )
  file <- serve(function(n, request) {
    if (length(request$HTTP_X_KEY)) {
      json_answer("", status = 500L)
    } else {
      table_answer(job_table(7))
    }
  })
  elsewhere <- serve(
    function(n, request) {
      if (request$REQUEST_METHOD == "POST") {
        json_answer(list(ticket = "t"))
      } else {
        json_answer(list(state = "done", link = paste0(file, "/file.csv")))
      }
    },
    file = file
  )
  withr::local_envvar(HALL_KEY = "hall-secret")
  key <- "access: {by: header, name: X-Key, secret: HALL_KEY}"
  expect_match(
    collect_history(card(elsewhere, key))$run$failed$what,
    "leads to another place"
  )
  # the redirect is followed as the card says, without the key, which the other
  # host refuses
  expect_identical(
    collect_history(card(elsewhere, c(key, "elsewhere: follow")))$bars$close,
    as.numeric(7:11)
  )
})

test_that("a download resumes unless its file has changed", {
  folder <- withr::local_tempdir()
  # the first answer breaks off after half of the file; the rest is requested
  # with If-Range
  answer <- function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = "t")))
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      return(json_answer(list(state = "done", link = "/file.csv")))
    }
    cat(
      request$HTTP_RANGE %||% "none",
      request$HTTP_IF_RANGE %||% "none",
      "\n",
      file = file.path(folder, "asked"),
      append = TRUE
    )
    whole <- charToRaw(
      job_table(
        if (changes && file.exists(file.path(folder, "begun"))) 21 else 1
      )
    )
    tag <- if (changes && file.exists(file.path(folder, "begun"))) {
      "\"b\""
    } else {
      "\"a\""
    }
    if (!file.exists(file.path(folder, "begun"))) {
      file.create(file.path(folder, "begun"))
      # the announced length is larger than the file, and nothing follows
      return(
        list(
          status = 200L,
          headers = list(
            "Content-Length" = as.character(length(whole)),
            ETag = tag
          ),
          body = rawToChar(whole[1:60])
        )
      )
    }
    from <- as.numeric(
      sub("bytes=([0-9]+)-", "\\1", request$HTTP_RANGE %||% "bytes=0-")
    )
    if (from > 0 && identical(request$HTTP_IF_RANGE, tag)) {
      return(
        list(
          status = 206L,
          headers = list(
            ETag = tag,
            "Content-Range" = sprintf(
              "bytes %d-%d/%d", from, length(whole) - 1, length(whole)
            )
          ),
          body = rawToChar(whole[-seq_len(from)])
        )
      )
    }
    list(status = 200L, headers = list(ETag = tag), body = rawToChar(whole))
  }
  for (changes in c(FALSE, TRUE)) {
    unlink(file.path(folder, c("begun", "asked")))
    card <- job_card(
      serve(answer, folder = folder, changes = changes, env = environment()),
      paste0(
        "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
        "ready: done, link: /link}"
      ),
      "patience: PT2S", env = environment()
    )
    got <- collect_history(card, env = environment())
    expect_identical(
      got$bars$close,
      if (changes) as.numeric(21:25) else as.numeric(1:5),
      label = paste("changes:", changes)
    )
    requests <- readLines(file.path(folder, "asked"))
    expect_match(requests[2], "bytes=60- \"a\"", fixed = TRUE)
    expect_identical(length(requests), 2L)
    expect_identical(got$run$retried, 1)
  }
})

test_that("a killed download resumes with the missing part", {
  whole <- job_table(1)
  said <- function(status, body, ..., length = nchar(body)) {
    paste0(
      "HTTP/1.1 ", status, "\r\n",
      paste0(
        c("Connection: close", paste0("Content-Length: ", length), ...),
        "\r\n", collapse = ""
      ),
      "\r\n", body
    )
  }
  rest <- function(from) {
    said(
      "206 Partial Content", substring(whole, from + 1),
      sprintf(
        "Content-Range: bytes %d-%d/%d", from, nchar(whole) - 1L, nchar(whole)
      )
    )
  }
  for (right in c(TRUE, FALSE)) {
    url <- start_socket(
      list(
        said("200 OK", "{\"ticket\": \"t\"}"),
        said("200 OK", "{\"state\": \"done\", \"link\": \"/file.csv\"}"),
        said(
          "200 OK", substr(whole, 1, 60), "ETag: \"a\"", length = nchar(whole)
        ),
        rest(if (right) 60 else 40), said("200 OK", whole)
      ),
      hold = c(0, 0, 8, 0, 0), env = environment()
    )
    card <- job_card(
      url,
      paste0(
        "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
        "ready: done, link: /link}"
      ),
      env = environment()
    )
    archive <- new_archive(environment())
    code <- sprintf(
      paste0(
        "library(vetusta); a <- archive_open('%s'); ",
        paste0(
          "collect_run(plan_requests(query_bars(source_card('%s'), ",
          "'KELD', '1 day', from = ",
          "'2026-03-01', to = '2026-03-08'), a), a, progress = FALSE)"
        )
      ),
      archive$path, card$file
    )
    victim <- processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      stdout = NULL,
      stderr = NULL,
      env = c("current", R_LIBS = r_libs())
    )
    part <- function() {
      sum(
        file.size(
          list.files(paste0(archive$path, ".parts"), "part$", full.names = TRUE)
        )
      )
    }
    end <- Sys.time() + 30
    while (Sys.time() < end && victim$is_alive() && part() < 60) {
      Sys.sleep(0.02)
    }
    victim$kill()
    expect_identical(part(), 60)
    got <- collect_history(card, archive = archive, env = environment())
    # a part other than the requested one is unusable: the whole file is
    # requested
    expect_identical(got$run$retried, if (right) 0 else 1)
    expect_identical(got$bars$close, as.numeric(1:5))
    expect_false(dir.exists(paste0(archive$path, ".parts")))
  }
})

test_that("a link may redirect; exports may differ in their bodies", {
  url <- serve(function(n, request) {
    if (request$REQUEST_METHOD == "POST") {
      body <- paste(request$rook.input$read_lines(), collapse = "")
      return(
        json_answer(
          list(ticket = sub(".*\"code\": \"([A-Z]+)\".*", "\\1", body))
        )
      )
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      return(
        json_answer(
          list(
            state = "done",
            link = paste0("/go/", basename(request$PATH_INFO))
          )
        )
      )
    }
    if (grepl("/go/", request$PATH_INFO)) {
      return(
        list(
          status = 302L,
          headers = list(
            Location = paste0("/files/", basename(request$PATH_INFO))
          ),
          body = ""
        )
      )
    }
    table_answer(job_table(if (grepl("KELD", request$PATH_INFO)) 1 else 100))
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  history:", "    shape: bars", "    method: POST",
      "    request: /exports", "    body: '{\"code\": \"{symbol}\"}'",
      "    format: csv",
      paste0(
        "    job: {ticket: /ticket, look: \"/jobs/{ticket}\", state: ",
        "/state, ready: done, link: /link}"
      ),
      "    columns: {time: {at: /t, as: rfc3339}, close: /c}"
    )
  )
  got <- collect_history(card, c("KELD", "TAMX"))
  expect_identical(got$bars$close[got$bars$symbol == "KELD"], as.numeric(1:5))
  expect_identical(
    got$bars$close[got$bars$symbol == "TAMX"], as.numeric(100:104)
  )
})

test_that("damaged, empty or HTML exports are refused, nothing stored", {
  packed <- function(text) {
    file <- tempfile()
    connection <- gzfile(file, "wb")
    writeLines(text, connection, sep = "")
    close(connection)
    readBin(file, "raw", 1e6)
  }
  zipped <- function(name) {
    readBin(testthat::test_path("zips", name), "raw", 1e6)
  }
  job <- function(unpack) {
    paste0(
      paste0(
        "{ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
        "ready: done, link: ", "/link, unpack: "
      ),
      unpack, "}"
    )
  }
  serve_file <- function(body) {
    serve(
      function(n, request) {
        if (request$REQUEST_METHOD == "POST") {
          return(json_answer(list(ticket = "t")))
        }
        if (grepl("/jobs/", request$PATH_INFO)) {
          return(json_answer(list(state = "done", link = "/file")))
        }
        list(
          status = 200L,
          headers = list("Content-Type" = "application/octet-stream"),
          body = body
        )
      },
      body = body, env = parent.frame()
    )
  }
  expect_identical(
    collect_history(
      job_card(serve_file(packed(job_table())), job("gzip"))
    )$bars$close,
    as.numeric(1:5)
  )
  expect_identical(
    collect_history(
      job_card(serve_file(zipped("one.zip")), job("zip"))
    )$bars$close,
    as.numeric(1:5)
  )
  refused <- c(outside.zip = "leaves its folder", two.zip = "has 2 files")
  for (name in names(refused)) {
    expect_match(
      collect_history(
        job_card(serve_file(zipped(name)), job("zip"), env = environment()),
        env = environment()
      )$run$failed$what,
      refused[[name]], label = name
    )
  }
  # several files of a zip file, by their names
  folder <- withr::local_tempdir()
  lines <- strsplit(job_table(), "\n")[[1]]
  withr::with_dir(folder, {
    writeLines(lines[1:3], "a.csv")
    writeLines(lines[c(1, 4:6)], "b.csv")
    writeLines("read me", "c.txt")
    utils::zip("all.zip", c("b.csv", "c.txt", "a.csv"), flags = "-q")
  })
  all <- readBin(file.path(folder, "all.zip"), "raw", 1e5)
  expect_identical(
    collect_history(
      job_card(
        serve_file(all), paste0(job("zip"), "\n    table: {files: \"*.csv\"}")
      )
    )$bars$close,
    as.numeric(1:5)
  )
  damaged <- packed(
    paste0(job_table(), strrep("2026-03-09T07:30:00Z,9\n", 500))
  )
  spoilt <- collect_history(
    job_card(serve_file(damaged[seq_len(length(damaged) - 12)]), job("gzip"))
  )
  expect_identical(nrow(spoilt$run$failed), 1L)
  for (body in list(
    "", "<html>down</html>", "{\"error\":\"no\"}", "a,b\n1,2\n"
  )) {
    wrong <- collect_history(
      job_card(serve_file(charToRaw(body)), job("none"), env = environment()),
      env = environment()
    )
    expect_identical(nrow(wrong$run$failed), 1L, label = body)
    expect_null(wrong$bars)
  }
})

test_that("exports as NDJSON, JSON or table, in parts of any size", {
  rows <- lapply(1:25, function(i) {
    list(
      t = sprintf("2026-03-%02dT07:30:00Z", i),
      c = i,
      say = if (i %% 3 == 0) "two\nlines, \"quoted\"" else "one"
    )
  })
  lines <- paste0(
    vapply(
      rows,
      function(row) as.character(jsonlite::toJSON(row, auto_unbox = TRUE)), ""
    ),
    collapse = "\n"
  )
  quoted <- function(text) {
    paste0("\"", gsub("\"", "\"\"", text, fixed = TRUE), "\"")
  }
  table <- paste0(
    "\ufeff# as of today\n\nt,c,say\n",
    paste0(
      vapply(
        rows, function(row) paste(row$t, row$c, quoted(row$say), sep = ","), ""
      ),
      "\n", collapse = "# in between\n"
    )
  )
  forms <- list(
    list(c("    format: json-lines"), lines),
    list(
      c("    rows: /items"),
      paste0("{\"items\": [", gsub("}\n{", "},{", lines, fixed = TRUE), "]}")
    ),
    list(c("    format: csv", "    table: {remark: \"#\"}"), table)
  )
  for (form in forms) {
    url <- serve(
      function(n, request) {
        if (request$REQUEST_METHOD == "POST") {
          return(json_answer("", list(Location = "/file"), 202L))
        }
        list(
          status = 200L,
          headers = list("Content-Type" = "application/octet-stream"),
          body = charToRaw(enc2utf8(body))
        )
      },
      body = form[[2]], env = environment()
    )
    for (piece in c(1, 4, 1000)) {
      card <- bars_card(
        url,
        c(
          "datasets:", "  history:", "    shape: bars", "    method: POST",
          "    request: /exports/{symbol}{?from,to}", form[[1]],
          paste0("    job: {look: location, piece: ", piece, "}"),
          "    columns: {time: {at: /t, as: rfc3339}, close: /c, say: /say}"
        ),
        env = environment()
      )
      got <- collect_bars(
        card, "KELD", "1 day", "2026-03-01", "2026-03-27", env = environment()
      )
      expect_identical(
        got$bars$close,
        as.numeric(1:25),
        label = paste(form[[1]][1], piece)
      )
      expect_identical(got$bars$say[3], "two\nlines, \"quoted\"")
      expect_identical(got$run$rejected, 0)
    }
  }
})

test_that("an export without a line of names may have no rows", {
  for (body in c("", "2026-03-02T07:30:00Z,5\n")) {
    url <- serve(
      function(n, request) {
        if (request$REQUEST_METHOD == "POST") {
          return(json_answer("", list(Location = "/file"), 202L))
        }
        table_answer(body)
      },
      body = body, env = environment()
    )
    card <- bars_card(
      url,
      c(
        "datasets:", "  history:", "    shape: bars", "    method: POST",
        "    request: /exports/{symbol}{?from,to}", "    format: csv",
        "    table: {names: false}", "    job: {look: location}",
        "    columns: {time: {at: /0, as: rfc3339}, close: /1}"
      ),
      env = environment()
    )
    got <- collect_history(card, env = environment())
    expect_identical(nrow(got$run$failed), 0L)
    expect_identical(got$run$new, if (nzchar(body)) 1 else 0)
    expect_identical(got$run$empty, if (nzchar(body)) character() else "KELD")
  }
})

test_that("what a service packs once more on the way is unpacked too", {
  connection <- gzfile(file <- withr::local_tempfile(), "wb")
  writeLines(job_table(), connection, sep = "")
  close(connection)
  url <- serve(
    function(n, request) {
      if (request$REQUEST_METHOD == "POST") {
        return(json_answer("", list(Location = "/file"), 202L))
      }
      list(
        status = 200L,
        headers = list("Content-Encoding" = "gzip"),
        body = body
      )
    },
    body = readBin(file, "raw", 1e5)
  )
  for (unpack in c("none", "gzip")) {
    expect_identical(
      collect_history(
        job_card(
          url, paste0("{look: location, unpack: ", unpack, "}"),
          env = environment()
        ),
        env = environment()
      )$bars$close,
      as.numeric(1:5)
    )
  }
})

test_that("a job's parts are checked when its card is read", {
  url <- "https://data.example.org"
  expect_error_kind(
    job_card(url, "{ticket: /ticket, state: /state, ready: done}"), "card",
    "look"
  )
  expect_error_kind(
    job_card(url, "{look: \"/jobs/{ticket}\"}"), "card", "ticket"
  )
  expect_error_kind(
    job_card(url, "{look: location, state: /state}"), "card", "ready"
  )
  expect_error_kind(
    job_card(url, "{look: location, unpack: rar}"), "card", "zip|gzip"
  )
  expect_error_kind(
    job_card(url, "{look: location, pause: soon}"), "card", "duration|ISO"
  )
  expect_error_kind(
    job_card(url, "{look: location, piece: 0}"), "card", "piece"
  )
})
