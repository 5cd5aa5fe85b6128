# Logins whose tokens, cookies or codes are given at run time.

items <- c(
  "request: /rows", "rows: /items", "columns: {n: {at: /n, as: number}}"
)
names_of_secrets <- c(
  A_KEY = "key/with blank", A_USER = "user", A_PASSWORD = "pass&word",
  A_CLIENT = "client-1"
)
# A desk folder, so that kept tokens do not lie beside other tests' cards.
card_in <- function(folder, url, dataset, extra) {
  dir.create(file.path(folder, "sources"), showWarnings = FALSE)
  file <- file.path(folder, "sources", "test.yml")
  writeLines(
    c(
      "source: test", paste0("url: ", url), extra, "datasets:", "  rows:",
      "    shape: table", paste0("    ", dataset)
    ),
    file
  )
  file
}

test_that("a key in the path is sent, and nowhere else seen", {
  withr::local_envvar(names_of_secrets)
  url <- start_scripted(function(n, request) {
    path <- sub("^/", "", request$PATH_INFO)
    if (!startsWith(path, "v1/key%2Fwith%20blank/rows") &&
      !startsWith(path, "v1/key/with blank/rows")) {
      return(json_answer("{}", status = 401L))
    }
    page <- asked(request, "page") %||% "1"
    json_answer(c(
      list(items = list(list(n = as.numeric(page)))),
      # the service repeats the key in the next URL
      if (page == "1") list(more = "/v1/key%2Fwith%20blank/rows?page=2")
    ))
  }, env = environment())
  card <- write_card(
    url,
    c(
      "request: /v1/{key}/rows", "rows: /items",
      "next_page: {by: url, at: /more}",
      "columns: {n: {at: /n, as: number}}"
    ),
    "access: {by: path, name: key, secret: A_KEY}"
  )
  got <- collect_rows(card)
  expect_identical(got$rows$n, c(1, 2))
  written <- paste(unlist(lapply(got$journal, as.character)), collapse = " ")
  expect_false(grepl("key/with|key%2Fwith", written))
  file <- paste(
    readLines(got$archive$path, warn = FALSE, skipNul = TRUE),
    collapse = " "
  )
  expect_false(grepl("key/with|key%2Fwith", file, useBytes = TRUE))
})

test_that("a form login keeps its cookies, and logs in again when sent away", {
  withr::local_envvar(names_of_secrets)
  url <- start_scripted(function(n, request) {
    if (request$PATH_INFO == "/login") {
      body <- rawToChar(request$rook.input$read())
      good <- identical(body, "name=user&word=pass%26word")
      logins <<- (if (exists("logins")) logins else 0) + 1
      return(list(
        status = if (good) 302L else 200L,
        headers = list(
          Location = "/home",
          "Set-Cookie" = if (good) {
            paste0(
              "sid=session-", logins,
              "; Expires=Wed, 09 Jun 2027 10:18:14 GMT; Path=/"
            )
          } else {
            "flash=; Path=/"
          },
          "Content-Type" = "text/html"
        ),
        body = "<html></html>"
      ))
    }
    # the first session ends at once
    if (identical(request$HTTP_COOKIE, "sid=session-2")) {
      return(json_answer(list(items = list(list(n = 7)))))
    }
    list(
      status = 302L, headers = list(Location = "/login?next=rows"), body = ""
    )
  }, env = environment())
  access <- paste0(
    "access: {by: form-login, url: /login, user: A_USER, ",
    "password: A_PASSWORD, body: 'name={user}&word={password}'}"
  )
  got <- collect_rows(write_card(url, items, access))
  expect_identical(got$rows$n, 7)
  expect_false(
    any(grepl("session-", unlist(lapply(got$journal, as.character))))
  )
  withr::local_envvar(A_PASSWORD = "wrong")
  expect_error_kind(
    collect_rows(write_card(url, items, access)), "access", "sets no cookie"
  )
})

# A service with a consent page: codes and refresh tokens are valid once.
consent_service <- function(env) {
  start_scripted(function(n, request) {
    if (!exists("state")) {
      state <<- new.env()
      state$tokens <- 0
      state$grants <- 0
      state$refresh <- "none"
    }
    form <- function() {
      body <- rawToChar(request$rook.input$read())
      parts <- strsplit(strsplit(body, "&")[[1]], "=")
      stats::setNames(
        lapply(parts, function(part) utils::URLdecode(part[2])),
        vapply(parts, `[`, "", 1)
      )
    }
    if (request$PATH_INFO == "/authorize") {
      state$challenge <- asked(request, "code_challenge")
      to <- asked(request, "redirect_uri")
      return(list(
        status = 302L,
        headers = list(
          Location = paste0(
            to, "?code=code-1&state=", asked(request, "state")
          )
        ),
        body = ""
      ))
    }
    if (request$PATH_INFO == "/token") {
      sent <- form()
      proof <- function(verifier) {
        hash <- digest::digest(
          charToRaw(verifier), "sha256",
          serialize = FALSE, raw = TRUE
        )
        jsonlite::base64url_enc(hash)
      }
      good <- if (identical(sent$grant_type, "authorization_code")) {
        identical(sent$code, "code-1") &&
          identical(proof(sent$code_verifier), state$challenge)
      } else {
        identical(sent$refresh_token, state$refresh)
      }
      if (!good) {
        return(json_answer(list(error = "invalid_grant"), status = 400L))
      }
      state$tokens <- state$tokens + 1
      state$refresh <- paste0("refresh-", state$tokens)
      state$access <- paste0("access-", state$tokens)
      return(json_answer(list(
        access_token = state$access, expires_in = 600,
        refresh_token = state$refresh
      )))
    }
    if (request$PATH_INFO == "/forget") {
      state$access <- "gone"
      return(json_answer("{}"))
    }
    if (identical(
      request$HTTP_AUTHORIZATION, paste("Bearer", state$access)
    )) {
      json_answer(list(items = list(list(n = state$tokens))))
    } else {
      json_answer("{}", status = 401L)
    }
  }, env = env)
}

login_card <- function(folder, url, redirect) {
  card_in(folder, url, items, paste0(
    "access: {by: token, grant: authorization_code, url: /token, page: ",
    url, "/authorize, client: A_CLIENT, scope: read, redirect: '", redirect,
    "'}"
  ))
}

# The answer of the consent page, as a browser gets it.
agreed <- function(url) {
  handle <- curl::new_handle(followlocation = FALSE)
  answer <- curl::curl_fetch_memory(url, handle)
  headers <- curl::parse_headers_list(answer$headers)
  headers$location
}

test_that("a login with a consent page is kept and renewed", {
  withr::local_envvar(names_of_secrets)
  folder <- withr::local_tempdir()
  url <- consent_service(environment())
  source <- source_card(
    login_card(folder, url, "https://desk.example.org/done")
  )
  expect_error_kind(
    collect_rows(source$file), "access", "needs a login"
  )
  source_login(source, typed = agreed)
  expect_identical(collect_rows(source$file)$rows$n, 1)
  # the next run uses the kept token
  expect_identical(collect_rows(source$file)$rows$n, 1)
  # a refused token is renewed once, by a refresh token that is valid once
  curl::curl_fetch_memory(paste0(url, "/forget"))
  expect_identical(collect_rows(source$file)$rows$n, 2)
  curl::curl_fetch_memory(paste0(url, "/forget"))
  expect_identical(collect_rows(source$file)$rows$n, 3)
  kept <- file.path(folder, "desk.tokens")
  expect_identical(format(file.mode(kept)), "600")
  # a code of another login, no code, and a refused consent
  expect_error_kind(
    source_login(source, typed = function(url) "?code=code-1&state=other"),
    "access", "another login"
  )
  expect_error_kind(
    source_login(source, typed = function(url) ""), "access", "no code"
  )
  expect_error_kind(
    source_login(source, typed = function(url) "?error=access_denied"),
    "access", "refused"
  )
  expect_error_kind(
    source_login(source, typed = function(url) "guessed"), "access",
    "invalid_grant"
  )
  expect_error_kind(source_login(source_card("quay")), "argument", "consent")
})

test_that("processes that renew a kept token at once do it one after another", {
  withr::local_envvar(names_of_secrets)
  folder <- withr::local_tempdir()
  url <- consent_service(environment())
  source <- source_card(
    login_card(folder, url, "https://desk.example.org/done")
  )
  source_login(source, typed = agreed)
  curl::curl_fetch_memory(paste0(url, "/forget"))
  code <- sprintf(
    paste0(
      "library(vetusta); a <- archive_open(tempfile(fileext = '.sqlite')); ",
      "collect_run(plan_requests(query_rows(source_card('%s'), 'rows'), a), ",
      "a, progress = FALSE); cat(archive_rows(a, 'test', 'rows')$n)"
    ),
    source$file
  )
  runs <- lapply(1:3, function(i) {
    processx::process$new(
      "Rscript", c("--no-init-file", "-e", code),
      stdout = "|", stderr = "|", env = c("current", R_LIBS = r_libs())
    )
  })
  for (run in runs) run$wait(120000)
  said <- vapply(runs, function(run) run$read_all_output(), "")
  # a run that began before another's renewal may use the token before
  expect_true(all(said == "2"), info = paste(said, collapse = " "))
})

test_that("the browser's answer is awaited on this machine", {
  withr::local_envvar(names_of_secrets)
  folder <- withr::local_tempdir()
  url <- consent_service(environment())
  port <- httpuv::randomPort(host = "127.0.0.1")
  redirect <- sprintf("http://127.0.0.1:%d/done", port)
  file <- login_card(folder, url, redirect)
  writeLines("desk: test", file.path(folder, "desk.yml"))
  process <- processx::process$new(
    "Rscript",
    c(
      "--no-init-file", "--no-restore", "-e", "vetusta::cli_main()", "secrets",
      "login", "test"
    ),
    wd = folder, stdout = "|", stderr = "|",
    env = c("current", R_LIBS = r_libs())
  )
  withr::defer(process$kill())
  text <- ""
  until <- Sys.time() + 60
  while (!grepl("code_challenge_method=S256", text) && Sys.time() < until) {
    process$poll_io(500)
    text <- paste0(text, process$read_error())
  }
  page <- regmatches(
    text, regexpr("http://[^[:space:]]*authorize[^[:space:]]*", text)
  )
  # a stranger's visit is no answer
  stranger <- curl::curl_fetch_memory(
    sprintf("http://127.0.0.1:%d/other", port)
  )
  expect_identical(stranger$status_code, 404L)
  answer <- curl::curl_fetch_memory(agreed(page))
  expect_match(rawToChar(answer$content), "close this page")
  process$wait(60000)
  expect_identical(process$get_exit_status(), 0L)
  expect_match(process$read_all_error(), "logged in to test")
  expect_identical(collect_rows(file)$rows$n, 1)
})

test_that("with `keep` a second run does not log in again", {
  withr::local_envvar(names_of_secrets)
  folder <- withr::local_tempdir()
  url <- start_scripted(function(n, request) {
    if (request$PATH_INFO == "/session") {
      logins <<- (if (exists("logins")) logins else 0) + 1
      return(json_answer(list(key = paste0("session-", logins))))
    }
    json_answer(list(items = list(list(
      n = as.numeric(sub("session-", "", request$HTTP_X_MILL))
    ))))
  }, env = environment())
  card <- card_in(folder, url, items, paste0(
    "access: {by: login, url: /session, user: A_USER, password: A_PASSWORD, ",
    "at: /key, name: X-Mill, lasts: PT1H, keep: true}"
  ))
  expect_identical(collect_rows(card)$rows$n, 1)
  expect_identical(collect_rows(card)$rows$n, 1)
})

test_that("cards of logins lack nothing", {
  expect_error_kind(
    source_card(write_card(
      "https://a.example.org", items,
      "access: {by: token, grant: authorization_code, url: /token, client: A}"
    )),
    "card", "lacks \"page\""
  )
  expect_error_kind(
    source_card(write_card(
      "https://a.example.org", items, "access: {by: form-login, url: /login}"
    )),
    "card", "\"body\""
  )
})

test_that("a damaged file of tokens is reported, and never overwritten", {
  withr::local_envvar(names_of_secrets)
  folder <- withr::local_tempdir()
  url <- consent_service(environment())
  file <- login_card(folder, url, "https://desk.example.org/done")
  kept <- file.path(folder, "desk.tokens")
  writeLines("this is no database at all", kept)
  expect_error_kind(collect_rows(file), "access", "cannot be used")
  expect_identical(readLines(kept), "this is no database at all")
})
