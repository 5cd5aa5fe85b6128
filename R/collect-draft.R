# A draft of a card from one live request.

#' Draft a source card from a live request
#'
#' Makes one request and drafts a card from its answer, as [source_draft()] does
#' from samples. Secrets are named and never written: `{NAME}` in capitals, in
#' the URL or in a header, is replaced by the secret of that name from the
#' environment, the desk's `desk.env` or the system's keyring. The draft's
#' `access` names the same secret.
#'
#' @param url The complete URL of the request, as
#'   `https://data.example.org/v1/bars/KELD?key={QUAY_KEY}`; or a complete
#'   copied command of curl. A value that looks like a key is removed and named
#'   as a secret.
#' @param headers Headers of the request, as `c(Authorization = "Bearer
#'   {FIXING_TOKEN}")`.
#' @param name The source's name.
#' @param folder The folder whose `desk.env` has secrets.
#' @param body The body of the request, sent by POST.
#' @param symbol The symbol in the URL, in whose place the card has `{symbol}`;
#'   by default a value of the answer that the URL contains.
#' @return The lines of the card, a character vector. Guesses are marked with `#
#'   ?`.
#' @section Errors: `vetusta_error_draft` for an invalid URL, an error as an
#'   answer, or an answer without rows; `vetusta_error_secret` for a missing
#'   secret; `vetusta_error_network` without an answer.
#' @export
#' @examples
#' \dontrun{
#' # `vetusta services` serves it on this machine
#' collect_draft(
#'   "http://127.0.0.1:8471/river/stations",
#'   c("X-Survey-Token" = "{RIVER_TOKEN}")
#' )
#' }
collect_draft <- function(url, headers = character(), name = "new",
                          folder = ".", body = NULL, symbol = NULL) {
  check_text(url, "url", "draft")
  check_text(name, "name", "draft")
  check_text(folder, "folder", "draft")
  if (!is.null(body)) check_text(body, "body", "draft")
  if (!is.null(symbol)) check_text(symbol, "symbol", "draft")
  if (length(headers) && (!is.character(headers) || is.null(names(headers)))) {
    vetusta_stop(
      "draft", "`headers` must be named texts.",
      todo = "write them as c(Authorization = \"Bearer {FIXING_TOKEN}\")"
    )
  }
  if (grepl("^\\s*curl\\s", url)) {
    command <- curl_command(trimws(url))
    url <- command$url
    headers <- c(headers, command$headers)
    body <- body %||% command$body
  }
  taken <- hidden_taken(url, headers, body, name)
  url <- taken$url
  headers <- taken$headers
  for (secret in names(taken$values)) say_hidden(secret)
  parts <- tryCatch(
    curl::curl_parse_url(gsub("[{}]", "_", url)),
    error = function(e) NULL
  )
  if (is.null(parts) || !isTRUE(parts$scheme %in% c("http", "https"))) {
    vetusta_stop(
      "draft", paste0("\"", url, "\" is not an http or https URL."),
      todo = "write the complete URL, as in https://data.example.org/v1/bars"
    )
  }
  named <- draft_secret_names(c(url, headers))
  if (length(named) && parts$scheme == "http" && !is_loopback(parts$host)) {
    vetusta_stop(
      "draft",
      paste0(
        "The URL uses plain http, so others on the network could read the ",
        "secret."
      ),
      where = url, todo = "use https"
    )
  }
  source <- structure(
    list(
      source = name,
      file = url,
      access = list(by = "none"),
      secrets = file.path(folder, "desk.env")
    ),
    class = "vetusta_source"
  )
  values <- stats::setNames(
    lapply(named, function(secret_name) {
      taken$values[[secret_name]] %||% secret_value(source, secret_name)
    }),
    named
  )
  hidden <- as.character(unlist(values))
  request <- list(
    method = if (is.null(body)) "GET" else "POST",
    body = body,
    url = fill_secrets(url, lapply(values, encode_plain)),
    headers = c(
      list(Accept = "application/json, text/csv;q=0.8, */*;q=0.5"),
      as.list(vapply(headers, fill_secrets, "", values = values))
    )
  )
  answer <- fetch_patiently(
    function() request,
    most_wait = 60,
    tries = 2,
    secrets = function() hidden
  )
  if (judge_status(answer$status) != "good") {
    vetusta_stop(
      "draft",
      paste0(
        "The service answers HTTP ", answer$status, ": ",
        redact(body_excerpt(answer$body), hidden)
      ),
      where = url,
      todo = if (answer$status %in% c(401, 403)) {
        "put the key where the service wants it, as {NAME} in --url or --header"
      } else {
        "check the URL"
      }
    )
  }
  sample <- draft_sample(unpacked_body(answer$body, url), url)
  symbol <- symbol %||% draft_symbol(url, list(sample))
  draft_card(
    list(sample), url, name, draft_request(url, headers, body, symbol)
  )
}

# Which secrets were removed from a draft, and where to store them.
say_hidden <- function(secret) {
  message(
    structure(
      class = c("vetusta_note", "message", "condition"),
      list(
        call = NULL,
        message = paste0(
          "note: a value looks like a key, and is not written into the ",
          "card, which ", "names it ", secret,
          "; keep it with: vetusta secrets set ", secret, "\n"
        )
      )
    )
  )
}

# Names of secrets that occur in texts as {NAME}.
draft_secret_names <- function(texts) {
  placeholders <- unlist(
    regmatches(texts, gregexpr("\\{[A-Z_][A-Z0-9_]*\\}", texts))
  )
  unique(substr(placeholders, 2, nchar(placeholders) - 1))
}

fill_secrets <- function(text, values) {
  for (name in names(values)) {
    text <- gsub(paste0("{", name, "}"), values[[name]], text, fixed = TRUE)
  }
  text
}

# The parts of a card that the request shows: URL, access, and parameters with
# the window.
draft_request <- function(url, headers, body = NULL, symbol = NULL) {
  query <- if (grepl("?", url, fixed = TRUE)) {
    strsplit(sub("#.*", "", sub("^[^?]*[?]", "", url)), "&", fixed = TRUE)[[1]]
  }
  plain <- sub("[?#].*", "", url)
  origin <- sub("^(https?://[^/]*).*$", "\\1", plain)
  names <- sub("=.*", "", query)
  values <- vapply(
    sub("^[^=]*=?", "", query), utils::URLdecode, "",
    USE.NAMES = FALSE
  )
  secret <- grepl("^\\{[A-Z_][A-Z0-9_]*\\}$", values)
  word <- ifelse(
    grepl(
      "^(from|start|begins?|since|after|first)([_-]?(date|time|day))?$", names,
      ignore.case = TRUE
    ),
    "from",
    ifelse(
      grepl(
        "^(to|until|end|before|last)([_-]?(date|time|day))?$", names,
        ignore.case = TRUE
      ),
      "to", NA
    )
  )
  type <- vapply(values, draft_type, "", USE.NAMES = FALSE)
  moves <- !secret & !is.na(word) & type %in% c(instant_types, "local")
  same <- function(text) {
    tolower(text) == tolower(symbol %||% "") & nzchar(text)
  }
  symbols <- !secret & !moves & same(values)
  path <- strsplit(sub(origin, "", plain, fixed = TRUE), "/", fixed = TRUE)[[1]]
  path[same(path)] <- "{symbol}"
  # values of the symbol within a name, as in KELD.json
  path <- if (is.null(symbol)) {
    path
  } else {
    sub(paste0("^", symbol, "(?=[.])"), "{symbol}", path, perl = TRUE)
  }
  hidden <- c(secret, logical())
  kept <- query[!hidden & !moves & !symbols]
  # a template variable is a word
  variable <- gsub("[^A-Za-z0-9_]", "_", names)
  templated <- symbols | moves
  list(
    url = paste0("url: ", origin),
    access = draft_access(names[secret], values[secret], headers),
    request = paste0(
      "    request: ", paste(path, collapse = "/"),
      if (length(kept)) paste0("?", paste(kept, collapse = "&")),
      if (any(templated)) {
        paste0(
          "{", if (length(kept)) "&" else "?",
          paste(variable[templated], collapse = ","), "}"
        )
      },
      if (!any(symbols) && !any(grepl("{symbol}", path, fixed = TRUE))) {
        "    # ? put {symbol} in place of the symbol"
      },
      if (!is.null(body)) {
        paste0(
          "\n    method: POST\n    body: ",
          as.character(jsonlite::toJSON(body, auto_unbox = TRUE))
        )
      }
    ),
    parameters = if (any(templated)) {
      c(
        "    parameters:",
        if (any(symbols)) {
          paste0("      ", variable[symbols], ": {gives: symbol}")
        },
        if (any(moves)) {
          paste0(
            "      ", variable[moves], ": {gives: ", word[moves], ", as: ",
            type[moves], "}   # ?"
          )
        }
      )
    }
  )
}

draft_access <- function(names, values, headers) {
  bare <- function(text) gsub("^.*\\{|\\}.*$", "", text)
  if (length(names)) {
    return(
      paste0(
        "access: {by: query, name: ", names[1], ", secret: ", bare(values[1]),
        "}"
      )
    )
  }
  templated <- headers[grepl("\\{[A-Z_][A-Z0-9_]*\\}", headers)]
  if (!length(templated)) {
    return("access: {by: none}")
  }
  if (length(templated) == 2) {
    return(
      paste0(
        "access: {by: pair, names: [",
        paste(names(templated), collapse = ", "), "], secrets: [",
        paste(bare(templated), collapse = ", "), "]}"
      )
    )
  }
  prefix <- sub("\\{.*", "", templated[[1]])
  if (tolower(names(templated)[1]) == "authorization" &&
    tolower(prefix) == "bearer ") {
    return(paste0("access: {by: bearer, secret: ", bare(templated[[1]]), "}"))
  }
  paste0(
    "access: {by: header, name: ", names(templated)[1],
    if (nzchar(prefix)) paste0(", prefix: \"", prefix, "\""), ", secret: ",
    bare(templated[[1]]), "}"
  )
}
