# A service that repeats the key in every way; no output, record or log may show
# it.
secret_value <- "k\u00e9y/with+odd=signs&\"<more>"

spellings <- function(secret) {
  percent <- curl::curl_escape(secret)
  c(
    secret, percent, tolower(percent), gsub("%20", "+", percent),
    jsonlite::base64_enc(charToRaw(secret)),
    gsub("=", "", jsonlite::base64_enc(charToRaw(secret))),
    as.character(jsonlite::toJSON(secret, auto_unbox = TRUE))
  )
}

shows <- function(text, secret = secret_value) {
  forms <- gsub("^\"|\"$", "", spellings(secret))
  forms[
    vapply(forms, function(form) any(grepl(form, text, fixed = TRUE)), TRUE)
  ]
}

everything_in <- function(archive) {
  tables <- c(
    "journal", "rejected", "records", "notes", "series", "attributes",
    "coverage", "claims", "raw"
  )
  texts <- lapply(tables, function(name) {
    rows <- vetusta:::sql_get(archive, paste("SELECT * FROM", name))
    c(unlist(lapply(rows, function(column) {
      if (is.list(column)) {
        vapply(
          column, function(body) rawToChar(memDecompress(body, "gzip")), ""
        )
      } else {
        as.character(column)
      }
    })))
  })
  unlist(texts)
}

test_that("a repeated key is in no record or printed line", {
  withr::local_envvar(TEST_KEY = secret_value)
  forms <- gsub("^\"|\"$", "", spellings(secret_value))
  bodies <- c(
    vapply(
      forms,
      function(form) {
        paste0(
          "{\"items\":[{\"id\":\"", gsub("([\"\\\\])", "\\\\\\1", form),
          "\",\"n\":\"not ", gsub("([\"\\\\])", "\\\\\\1", form), "\"}]}"
        )
      },
      ""
    ),
    paste("this is no JSON:", forms), paste0("<html>", forms, "</html>")
  )
  for (access in c(
    "{by: query, name: key, secret: TEST_KEY}",
    "{by: header, name: X-Key, secret: TEST_KEY}",
    "{by: bearer, secret: TEST_KEY}"
  )) {
    archive <- new_archive()
    url <- start_scripted(
      eval(bquote(function(n, request) {
        at <- as.numeric(asked(request, "i"))
        list(
          status = if (at > .(length(forms)) * 3) 400L else 200L,
          headers = list("Content-Type" = "application/json"),
          body = .(unname(c(bodies, paste("wrong:", forms))))[at]
        )
      })),
      env = environment()
    )
    card <- write_card(
      url,
      c(
        "request: /rows{?i}", "rows: /items",
        "columns: {id: /id, n: {at: /n, as: number, need: optional}}"
      ),
      extra = paste("access:", access)
    )
    output <- character()
    for (i in seq_len(length(forms) * 4)) {
      run <- tryCatch(
        collect_run(
          plan_requests(
            query_rows(source_card(card), "rows", i = as.character(i)), archive
          ),
          archive, progress = FALSE, raw = TRUE
        ),
        vetusta_error = identity
      )
      output <- c(
        output,
        if (inherits(run, "condition")) {
          conditionMessage(run)
        } else {
          c(capture.output(print(run)), run$failed$what, run$failed$todo)
        }
      )
    }
    expect_identical(shows(output), character(), label = access)
    expect_identical(shows(everything_in(archive)), character(), label = access)
  }
})

test_that("no print shows a secret; several lines are refused", {
  withr::local_envvar(TEST_KEY = "plain-test-key")
  file <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    c(
      "source: test", "url: http://127.0.0.1:1",
      "access: {by: bearer, secret: TEST_KEY}",
      paste0(
        "datasets: {rows: {shape: table, request: /rows, rows: /items, ",
        "columns: {id: /id}}}"
      )
    ),
    file
  )
  secret <- source_secret(source_card(file), "TEST_KEY")
  printed <- c(
    capture.output(str(secret)), capture.output(print(secret)),
    capture.output(dput(secret)), format(secret),
    capture.output(str(list(a = secret))),
    capture.output(print(unclass(secret)))
  )
  expect_identical(shows(printed, "plain-test-key"), character())
  expect_identical(
    vetusta:::secret_value(unclass(secret), secret$name), "plain-test-key"
  )
  withr::local_envvar(TEST_KEY = "one\r\nX-Other: two")
  expect_error_kind(
    source_secret(source_card(file), "TEST_KEY"), "secret", "line break"
  )
})

test_that("a redirect with the key in it sends it nowhere else", {
  withr::local_envvar(TEST_KEY = "a-key-of-the-test")
  seen <- withr::local_tempfile()
  other <- start_scripted(eval(bquote(function(n, request) {
    cat(
      request$PATH_INFO, request$QUERY_STRING, "\n", file = .(seen),
      append = TRUE
    )
    json_answer(list(items = list(list(id = 1))))
  })))
  for (way in c("redirect", "page")) {
    for (form in c("a-key-of-the-test", "a%2Dkey%2Dof%2Dthe%2Dtest")) {
      url <- start_scripted(
        eval(bquote(function(n, request) {
          to <- paste0(.(other), "/rows?token=", .(form))
          if (.(way) == "redirect") {
            list(status = 302L, headers = list(Location = to), body = "")
          } else {
            json_answer(list(items = list(list(id = 0)), more = to))
          }
        })),
        env = environment()
      )
      card <- write_card(
        url,
        c(
          "request: /rows", "rows: /items", "next_page: {by: url, at: /more}",
          "columns: {id: /id}"
        ),
        extra = c(
          "access: {by: query, name: key, secret: TEST_KEY}",
          "elsewhere: follow"
        )
      )
      got <- collect_rows(card)
      if (way == "redirect" && form == "a-key-of-the-test") {
        expect_match(got$run$failed$what, "secret", label = way)
      }
    }
  }
  expect_false(
    file.exists(seen) && any(grepl("a-key-of-the-test", readLines(seen)))
  )
})

test_that("an answer without a token shows none of its words", {
  withr::local_envvar(
    TEST_USER = "analyst", TEST_PASSWORD = "a-password-of-the-test"
  )
  card <- function(answer) {
    url <- start_scripted(
      eval(bquote(function(n, request) {
        if (grepl("^/token", request$PATH_INFO)) {
          return(
            list(
              status = 200L,
              headers = list("Content-Type" = "application/json"),
              body = .(answer)
            )
          )
        }
        json_answer(list(items = list(list(id = 1))))
      })),
      env = parent.frame()
    )
    source_card(
      write_card(
        url,
        c("request: /rows", "rows: /items", "columns: {id: /id}"),
        extra = paste0(
          "access: {by: token, url: /token, grant: password, user: ",
          "TEST_USER, ", "password: TEST_PASSWORD}"
        ),
        env = parent.frame()
      )
    )
  }
  archive <- new_archive()
  run <- function(source) {
    tryCatch(
      collect_run(
        plan_requests(query_rows(source, "rows"), archive), archive,
        progress = FALSE
      ),
      vetusta_error = identity
    )
  }
  failed <- run(
    card("{\"token\":\"granted-and-secret\",\"error\":\"no_such_grant\"}")
  )
  expect_s3_class(failed, "vetusta_error_access")
  expect_false(grepl("granted-and-secret", conditionMessage(failed)))
  expect_match(conditionMessage(failed), "no_such_grant")
  for (words in c("\"never\"", "null", "-5", "[]")) {
    expect_identical(
      nrow(
        run(
          card(
            paste0("{\"access_token\":\"granted\",\"expires_in\":", words, "}")
          )
        )$failed
      ),
      0L, label = words
    )
  }
})

test_that("headers are one line; texts are always encoded", {
  file <- withr::local_tempfile(fileext = ".yml")
  for (headers in c(
    "headers: {\"X-A\": \"b\\r\\nX-C: d\"}", "headers: {\"X-A\\r\\nX-B\": c}",
    "access: {by: header, name: \"X\\r\\nY\", secret: K}"
  )) {
    writeLines(
      c(
        "source: test", "url: http://127.0.0.1:1", headers,
        paste0(
          "datasets: {rows: {shape: table, request: /rows, rows: /items, ",
          "columns: {id: /id}}}"
        )
      ),
      file
    )
    expect_error_kind(source_card(file), "card", "line|names|cannot")
  }
  expect_identical(
    vetusta:::template_expand(
      "/bars/{symbol}{?key}", list(symbol = "A%2F..%41", key = "50%41&x=1")
    ),
    "/bars/A%252F..%2541?key=50%2541%26x%3D1"
  )
  expect_error_kind(
    query_bars(source_card("quay"), "..", "1 day", from = "2026-03-12"),
    "argument", "neither a symbol"
  )
})

test_that("no window exceeds the limit, with one to four collectors", {
  log <- withr::local_tempfile()
  url <- start_scripted(eval(bquote(function(n, request) {
    cat(
      sprintf("%.6f", as.numeric(Sys.time())), "\n", file = .(log),
      append = TRUE
    )
    json_answer(list(items = list(list(id = n))))
  })))
  for (collectors in c(1, 4)) {
    unlink(log)
    card <- write_card(
      url,
      c("request: /rows{?i}", "rows: /items", "columns: {id: /id}"),
      extra = c("limits: [20 per second]", "at_once: 4")
    )
    path <- withr::local_tempfile(fileext = ".sqlite")
    archive_close(archive_open(path))
    code <- paste0(
      "library(vetusta); a <- archive_open('%s'); w <- ",
      "query_rows(source_card('%s'), ",
      paste0(
        "'rows', i = as.character(%d + 1:%d)); ",
        "collect_run(plan_requests(w, a), a,", " progress = FALSE)"
      )
    )
    processes <- lapply(seq_len(collectors), function(k) {
      processx::process$new(
        "Rscript",
        c(
          "--no-init-file", "-e",
          sprintf(code, path, card, k * 1000, 120 / collectors)
        ),
        env = c("current", R_LIBS = r_libs())
      )
    })
    for (process in processes) process$wait()
    times <- sort(as.numeric(readLines(log)))
    expect_identical(length(times), 120L)
    most <- max(
      vapply(times, function(at) sum(times >= at & times < at + 1), 1L)
    )
    expect_lte(most, 20)
  }
})

test_that("when requests are allowed again is read in all its forms", {
  now <- as.numeric(as.POSIXct("2026-11-26 10:00:00", tz = "UTC"))
  wait <- function(reset) {
    vetusta:::rate_limit_wait(
      list("x-ratelimit-remaining" = "0", "x-ratelimit-reset" = reset), now
    )
  }
  for (reset in c(
    "30", sprintf("%.0f", now + 30), sprintf("%.0f", (now + 30) * 1000),
    sprintf("%.0f", (now + 30) * 1e6), "2026-11-26T10:00:30Z",
    "Thu, 26 Nov 2026 10:00:30 GMT"
  )) {
    expect_equal(wait(reset), 30, label = reset)
  }
  expect_true(is.na(wait("soon")))
})
