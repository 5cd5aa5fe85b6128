# Simulated faults: every N-th answer is spoilt in one way. Faults below HTTP
# are made by a proxy for bytes, see src/standin-front.cpp.

standin_answer_faults <- c(
  "status-408", "status-425", "status-429", "status-500", "status-502",
  "status-503", "slow", "stall", "cut", "html", "empty", "error-200", "gzip",
  "schema", "elsewhere", "refused", "rate-header"
)
standin_connection_faults <- c(
  "closed", "reset", "broken", "silent", "trickle", "away", "tls"
)
standin_faults <- c(standin_answer_faults, standin_connection_faults, "dns")

# The URL of the services: nothing resolves under .invalid (RFC 2606), and the
# https URL is answered without TLS.
standin_root <- function(port, fault = NULL) {
  place <- switch(fault %||% "none",
    tls = "https://127.0.0.1:",
    dns = "https://services.invalid:",
    "http://127.0.0.1:"
  )
  paste0(place, port)
}

standin_spoil <- function(answer, kind) {
  text <- function() {
    if (is.raw(answer$body)) rawToChar(answer$body) else answer$body
  }
  json <- list("Content-Type" = "application/json")
  switch(kind,
    "status-408" = ,
    "status-425" = ,
    "status-429" = ,
    "status-500" = ,
    "status-502" = ,
    "status-503" = standin_problem(
      as.integer(sub("status-", "", kind)), "fault", "Not now.",
      if (kind == "status-429") list("Retry-After" = "1")
    ),
    slow = {
      Sys.sleep(2)
      answer
    },
    # the stated length is longer than the body, and the connection stays open
    stall = utils::modifyList(
      answer,
      list(
        headers = c(
          answer$headers,
          list("Content-Length" = as.character(nchar(text(), "bytes") + 1000))
        )
      )
    ),
    cut = utils::modifyList(
      answer, list(body = substr(text(), 1, nchar(text()) %/% 2))
    ),
    html = list(
      status = 200L,
      headers = list("Content-Type" = "text/html"),
      body = "<html><body><h1>Down for repairs</h1></body></html>"
    ),
    empty = list(status = 200L, headers = json, body = ""),
    "error-200" = list(
      status = 200L, headers = json,
      body = "{\"problem\":{\"code\":\"busy\",\"text\":\"Try again.\"}}"
    ),
    gzip = list(
      status = 200L,
      headers = c(json, list("Content-Encoding" = "gzip")),
      body = as.raw(c(0x1f, 0x8b, 8, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9))
    ),
    schema = utils::modifyList(
      answer,
      list(body = gsub("\"lst\"", "\"final_price\"", text(), fixed = TRUE))
    ),
    elsewhere = list(
      status = 302L,
      headers = list(Location = "http://127.0.0.1:9/elsewhere"),
      body = ""
    ),
    refused = standin_problem(403L, "fault", "This is not for you."),
    "rate-header" = utils::modifyList(
      answer,
      list(
        headers = c(
          answer$headers,
          list("RateLimit-Remaining" = "0", "RateLimit-Reset" = "1")
        )
      )
    )
  )
}
