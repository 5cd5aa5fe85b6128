# A login with a consent page: the authorization code grant (RFC 6749, section
# 4.1) with a proof key (RFC 7636).

#' Log in to a source with a consent page
#'
#' Shows the URL of the consent page, waits for the code that the page gives,
#' and exchanges it for tokens. They are kept in `desk.tokens` beside the desk's
#' `desk.env`, which only the user can read; collections renew them by
#' themselves.
#'
#' @param source A source whose card has `access: {by: token, grant:
#'   authorization_code, ...}`, see [source_card()].
#' @param typed A function of the URL that returns the code, or the URL to which
#'   the browser was sent. By default, where the card's `redirect:` is on this
#'   machine, a small server waits there for the browser.
#' @param wait The longest time to wait for the browser, in seconds.
#' @return Invisibly the instant until which the token is valid.
#' @section Errors: `vetusta_error_access` if the consent is refused, or the
#'   service grants no token; `vetusta_error_argument` for a source with another
#'   kind of access.
#' @export
#' @examples
#' \dontrun{
#' source_login(source_card("sources/mill.yml"))
#' }
source_login <- function(source, typed = NULL, wait = 300) {
  if (!inherits(given(source, "source"), "vetusta_source") ||
    !identical(source$access$grant, "authorization_code")) {
    vetusta_stop(
      "argument", "This is not a source with a consent page.",
      todo = paste0(
        "its card needs access: {by: token, grant: authorization_code, ...}"
      )
    )
  }
  check_number(wait, "wait", 0)
  verifier <- login_random(32)
  state <- login_random(16)
  url <- consent_url(source, verifier, state)
  answer <- if (is.null(typed)) {
    login_by_browser(source, url, wait)
  } else {
    login_answer(typed(url))
  }
  if (!is.null(answer$error)) {
    vetusta_stop(
      "access",
      paste0("The consent was refused: ", substr(answer$error, 1, 160), "."),
      where = paste0(source$file, ", access"),
      todo = "log in again, and agree"
    )
  }
  if (!is.null(answer$state) && !identical(answer$state, state)) {
    vetusta_stop(
      "access", "The answer belongs to another login.",
      where = paste0(source$file, ", access"),
      todo = "use the URL of this login, and not that of an earlier one"
    )
  }
  token <- ask_token(source, list(code = answer$code, verifier = verifier))
  with_tokens(source, function(kept, keep) keep(token))
  invisible(utc(token$ends))
}

# Random bytes from the system, in the alphabet that URLs allow.
login_random <- function(bytes) {
  connection <- file("/dev/urandom", "rb", raw = TRUE)
  on.exit(close(connection))
  jsonlite::base64url_enc(readBin(connection, "raw", bytes))
}

consent_url <- function(source, verifier, state) {
  access <- source$access
  challenge <- jsonlite::base64url_enc(
    digest::digest(charToRaw(verifier), "sha256", serialize = FALSE, raw = TRUE)
  )
  values <- list(
    response_type = "code",
    client_id = secret_value(source, access$client),
    redirect_uri = access$redirect,
    scope = access$scope,
    state = state,
    code_challenge = challenge,
    code_challenge_method = "S256"
  )
  values <- values[lengths(values) > 0]
  paste0(
    access$page, if (grepl("?", access$page, fixed = TRUE)) "&" else "?",
    paste(
      names(values), vapply(values, encode_plain, ""),
      sep = "=", collapse = "&"
    )
  )
}

# The code of an answer: typed alone, or within the URL of the redirect.
login_answer <- function(text) {
  text <- trimws(text)
  if (!length(text) || is.na(text[1]) || !nzchar(text[1])) {
    vetusta_stop(
      "access", "There is no code.",
      todo = "open the URL, agree, and give the code or the final URL"
    )
  }
  if (!grepl("[?&](code|error)=", text)) {
    return(list(code = text))
  }
  login_query(sub("^[^?]*[?]", "", sub("#.*", "", text)))
}

login_query <- function(query) {
  parts <- strsplit(query, "&", fixed = TRUE)[[1]]
  values <- utils::URLdecode(
    gsub("+", " ", sub("^[^=]*=?", "", parts), fixed = TRUE)
  )
  as.list(stats::setNames(values, sub("=.*", "", parts)))[
    intersect(c("code", "state", "error"), sub("=.*", "", parts))
  ]
}

# Waits at the redirect URL on this machine for the browser.
login_by_browser <- function(source, url, wait) {
  redirect <- curl::curl_parse_url(source$access$redirect)
  if (redirect$scheme != "http" || !is_loopback(redirect$host)) {
    vetusta_stop(
      "argument",
      "The redirect of this source is not on this machine.",
      where = paste0(source$file, ", access"),
      todo = "give the code or the final URL through `typed`"
    )
  }
  answer <- NULL
  server <- tryCatch(
    httpuv::startServer(
      "127.0.0.1", as.integer(redirect$port),
      list(call = function(request) {
        if (request$PATH_INFO == redirect$path) {
          answer <<- login_query(sub("^[?]", "", request$QUERY_STRING))
        }
        list(
          status = if (is.null(answer)) 404L else 200L,
          headers = list("Content-Type" = "text/plain"),
          body = if (is.null(answer)) "" else "You can close this page."
        )
      })
    ),
    error = function(e) {
      vetusta_stop(
        "access",
        paste0("Another program uses the port ", redirect$port, "."),
        where = paste0(source$file, ", access"),
        todo = "end it, and log in again"
      )
    }
  )
  on.exit(httpuv::stopServer(server))
  message("open this URL in a browser, and agree:\n  ", url)
  until <- as.numeric(Sys.time()) + wait
  while (is.null(answer) && as.numeric(Sys.time()) < until) httpuv::service(200)
  # the browser gets its answer before the server ends
  httpuv::service(200)
  if (is.null(answer)) {
    vetusta_stop(
      "access", "The browser did not come back in time.",
      where = paste0(source$file, ", access"),
      todo = "log in again"
    )
  }
  answer
}
