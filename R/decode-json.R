# JSON bodies: the rows and the members that a page rule needs, by JSON Pointer (RFC 6901).

# Returns list(rows =, next_value =); the body is parsed once. A pointer that leads nowhere gives NULL, an empty array an
# empty list.
decode_json <- function(body, rows, next_at = NULL, where = "the body") {
  if (!length(body)) stop_payload("The answer is empty.", where, "try again later; if it stays so, look whether the card's request is right")
  queries <- c(rows = rows, next_value = next_at)
  parsed <- tryCatch(
    RcppSimdJson::fparse(body, query = queries, int64_policy = "double", query_error_ok = TRUE, on_query_error = NULL, empty_array = list()),
    error = function(e) stop_no_json(body, where)
  )
  if (length(queries) == 1) list(rows = parsed, next_value = NULL) else list(rows = parsed$rows, next_value = parsed$next_value)
}

stop_no_json <- function(body, where) {
  excerpt <- body_excerpt(body, 80)
  start <- rawToChar(utils::head(body[body != as.raw(0)], 200))
  if (grepl("^\\s*<", start)) {
    stop_payload("The answer is a web page or XML, not JSON.", where, paste0("look whether the card's address is right; it begins: ", excerpt))
  }
  stop_payload("The answer is no whole JSON: it is cut short or damaged.", where, paste0("it will be asked for again when the collection is run again; it begins: ", excerpt))
}

stop_payload <- function(what, where, todo) vetusta_stop("payload", what, where, todo)
