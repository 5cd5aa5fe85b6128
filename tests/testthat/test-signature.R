# Requests that are signed, and tokens that a login gives.

test_that("signatures are those of the standard's own test cases", {
  # RFC 4231, test cases 1 to 4 and 6; RFC 2202, test cases 1 and 2 for SHA-1
  sign <- function(key, text, hash) vetusta:::sign_text(text, key, hash, "hex")
  expect_identical(
    sign(as.raw(rep(0x0b, 20)), "Hi There", "sha256"),
    "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"
  )
  expect_identical(
    sign(charToRaw("Jefe"), "what do ya want for nothing?", "sha256"),
    "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
  )
  expect_identical(
    sign(charToRaw("Jefe"), "what do ya want for nothing?", "sha512"),
    paste0(
      "164b7a7bfcf819e2e395fbe73b56e0a387bd64222e831fd610270cd7ea250554",
      "9758bf75c05a994a6d034f65f8f0e6fdcaeab1a34d4a6b4b636e070a38bce737"
    )
  )
  expect_identical(
    sign(
      as.raw(rep(0xaa, 131)),
      "Test Using Larger Than Block-Size Key - Hash Key First", "sha256"
    ),
    "60e431591ee0b67f0d8a26aacbf5b77f8e0bc6213728c5140546040f0ee37f54"
  )
  expect_identical(
    sign(as.raw(rep(0x0b, 20)), "Hi There", "sha1"),
    "b617318655057264e28bc0b6fb378c8ef146be00"
  )
  expect_identical(
    vetusta:::sign_text("Hi There", as.raw(rep(0x0b, 20)), "sha256", "base64"),
    "sDRMYdjbOFNcqK/OrwvxK4gdwgDJgz2nJuk3bC4yz/c="
  )
})

signing_card <- function(url, access, env = parent.frame()) {
  source_card(
    write_card(
      url,
      c(
        "request: /rows?z=1&a=b", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      c("access:", paste0("  ", access)), env = env
    )
  )
}

test_that("every part of a request can be signed", {
  url <- start_scripted(function(n, request) {
    header <- function(name) request[[paste0("HTTP_", name)]]
    text <- paste(
      request$REQUEST_METHOD, paste0(request$PATH_INFO),
      sub("^[?]", "", request$QUERY_STRING), header("X_MILL_TIME"), sep = "\n"
    )
    own <- digest::hmac(
      "a-secret-of-the-mill", text, "sha256", serialize = FALSE
    )
    fresh <- abs(as.numeric(Sys.time()) - as.numeric(header("X_MILL_TIME"))) <
        120
    if (!identical(own, header("X_MILL_SIGN")) ||
      header("X_MILL_ID") != "mill-7" ||
      !fresh) {
      return(json_answer(list(error = "signature"), status = 401L))
    }
    json_answer(list(items = list(list(n = 1))))
  })
  withr::local_envvar(MILL_SECRET = "a-secret-of-the-mill", MILL_ID = "mill-7")
  card <- signing_card(
    url,
    c(
      "by: signature", "secret: MILL_SECRET", "id: MILL_ID", "time: epoch-s",
      "text: \"{method}\\n{path}\\n{query}\\n{time}\"",
      paste0(
        "headers: {X-Mill-Id: \"{id}\", X-Mill-Time: \"{time}\", ",
        "X-Mill-Sign: \"{signature}\"}"
      )
    )
  )
  archive <- new_archive()
  run <- collect_run(
    plan_requests(query_rows(card, "rows"), archive), archive, progress = FALSE
  )
  expect_identical(run$pages, 1)
  expect_false(any(grepl("a-secret|mill-7", unlist(archive_journal(archive)))))
  withr::local_envvar(MILL_SECRET = "another-secret")
  expect_error_kind(
    collect_run(
      plan_requests(query_rows(card, "rows"), archive), archive,
      progress = FALSE
    ),
    "access", "refuses"
  )
})

test_that("a signature in the query signs the parameters before it", {
  source <- signing_card(
    "http://127.0.0.1:9",
    c(
      "by: signature", "secret: MILL_SECRET", "key: hex", "write: base64",
      "time: rfc3339", "written: \"%Y%m%dT%H%M%SZ\"",
      "text: \"{query}|{body_hash}|{origin}\"",
      "parameters: {at: \"{time}\", sign: \"{signature}\"}"
    )
  )
  withr::local_envvar(MILL_SECRET = paste(rep("0b", 20), collapse = ""))
  request <- list(
    url = "http://127.0.0.1:9/rows?z=1", method = "GET", headers = list()
  )
  signed <- vetusta:::with_signature(request, source, now = 1773300600)
  query <- "z=1&at=20260312T073000Z"
  # the hash of nothing, as FIPS 180-4 has it
  nothing <- "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
  signature <- vetusta:::sign_text(
    paste(query, nothing, "http://127.0.0.1:9", sep = "|"),
    as.raw(rep(0x0b, 20)), "sha256", "base64"
  )
  expect_identical(
    signed$url,
    paste0(
      "http://127.0.0.1:9/rows?", query, "&sign=",
      curl::curl_escape(signature)
    )
  )
  withr::local_envvar(MILL_SECRET = "no hex")
  expect_error_kind(
    vetusta:::with_signature(request, source), "secret", "not written in hex"
  )
})

test_that("what a value holds is not filled in once more", {
  expect_identical(
    vetusta:::fill_text(
      "{path}-{time}-{nobody}", list(path = "/{time}", time = "9")
    ),
    "/{time}-9-{nobody}"
  )
})

test_that("a useless or impossible signature is refused", {
  card <- function(...) {
    signing_card("http://127.0.0.1:9", c("by: signature", ...))
  }
  expect_error_kind(
    card("secret: A", "text: \"{path}\""), "card", "no place for the signature"
  )
  expect_error_kind(
    card("secret: A", "text: \"{pth}\"", "headers: {X: \"{signature}\"}"),
    "card", "knows no \\{pth\\}"
  )
  expect_error_kind(
    card("secret: A", "text: \"{id}\"", "headers: {X: \"{signature}\"}"),
    "card", "names no id"
  )
  expect_error_kind(
    card("text: \"{path}\"", "headers: {X: \"{signature}\"}"), "card", "secret"
  )
  expect_error_kind(card("secret: A", "text: x", "hash: sha3"), "card", "sha3")
})

test_that("a JSON login gives a token for any header", {
  url <- start_scripted(function(n, request) {
    if (request$PATH_INFO == "/session") {
      body <- jsonlite::fromJSON(
        paste(request$rook.input$read_lines(), collapse = "")
      )
      if (!identical(body$who$word, "it's \"new\"")) {
        return(json_answer(list(error = "wrong"), status = 403L))
      }
      return(
        json_answer(
          paste0(
            "{\"result\": [{\"key\": \"key-", n, "-of-the-mill\"}], ",
            "\"seconds\": 900}"
          )
        )
      )
    }
    good <- grepl(
      "^Mill key-[0-9]+-of-the-mill$", request$HTTP_X_MILL_KEY %||% ""
    )
    # the first key expires early
    if (!good || request$HTTP_X_MILL_KEY == "Mill key-1-of-the-mill") {
      return(json_answer(list(error = "who?"), status = 401L))
    }
    json_answer(list(items = list(list(n = 1))))
  })
  withr::local_envvar(MILL_USER = "the desk", MILL_PASSWORD = "it's \"new\"")
  card <- signing_card(
    url,
    c(
      "by: login", "url: /session", "user: MILL_USER",
      "password: MILL_PASSWORD",
      "body: '{\"who\": {\"name\": \"{user}\", \"word\": \"{password}\"}}'",
      "at: /result/0/key", "name: X-Mill-Key", "prefix: \"Mill \"",
      "ends: /seconds"
    )
  )
  archive <- new_archive()
  run <- collect_run(
    plan_requests(query_rows(card, "rows"), archive), archive, progress = FALSE
  )
  expect_identical(run$pages, 1)
  expect_false(any(grepl("of-the-mill|new", unlist(archive_journal(archive)))))
  withr::local_envvar(MILL_PASSWORD = "old")
  expect_error_kind(
    collect_run(
      plan_requests(query_rows(card, "rows"), archive), archive,
      progress = FALSE
    ),
    "access", "grants no token: HTTP 403 wrong"
  )
})
