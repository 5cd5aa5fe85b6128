# Requested tokens: obtained when first needed, renewed before they expire and
# once when refused; concurrent requests share one. They stay in memory, or
# where the card says so in a file that only the user can read, see
# wire-token-kept.R.

access_token <- function(source, tokens) {
  if (is.null(tokens$value) || as.numeric(Sys.time()) >= tokens$ends) {
    answer <- if (keeps_tokens(source$access)) {
      kept_token(source, tokens$refused)
    } else {
      renewed_token(source, tokens$refresh) %||% ask_token(source)
    }
    tokens$value <- answer$value
    tokens$ends <- answer$ends
    tokens$refresh <- answer$refresh
  }
  tokens$value
}

# Forgets a token that the service refused.
token_refused <- function(tokens) {
  tokens$refused <- tokens$value
  tokens$value <- NULL
}

# A new token by the last refresh token (RFC 6749, section 6), which may be
# valid once. NULL without one or where it is refused: then access is requested
# anew. An answer without a new refresh token leaves the last one valid.
renewed_token <- function(source, refresh) {
  if (is.null(refresh)) {
    return(NULL)
  }
  answer <- tryCatch(
    ask_token(source, list(refresh = refresh)),
    vetusta_error_access = function(e) NULL
  )
  if (!is.null(answer) && is.null(answer$refresh)) answer$refresh <- refresh
  answer
}

# `by` is what a token is granted for, if not the card's secrets: list(refresh),
# or list(code, verifier) after a login.
ask_token <- function(source, by = list()) {
  access <- source$access
  url <- token_url(source)
  secret <- function(part) {
    if (!is.null(access[[part]])) secret_value(source, access[[part]])
  }
  asked <- switch(access$by,
    login = login_request(access, secret),
    "form-login" = form_login_request(access, secret),
    grant_request(access, secret, url, by)
  )
  request <- c(list(url = url, method = "POST"), asked)
  response <- fetch_patiently(
    function() request,
    source$patience,
    secrets = run_secrets(source, list())
  )
  if (access$by == "form-login") {
    return(session_cookie(source, response))
  }
  at <- access$at %||% "/access_token"
  parsed <- tryCatch(
    decode_json(
      response$body,
      c(
        token = at,
        lasts = access$ends %||% "/expires_in",
        refresh = "/refresh_token",
        error = "/error",
        why = "/error_description"
      ),
      "the token", "string"
    ),
    vetusta_error_payload = function(e) NULL
  )
  good <- length(parsed) > 0 && response$status >= 200 && response$status < 300
  token <- if (good) member_text(parsed$token)
  if (is.null(token)) {
    # the answer may contain a token under another name, so only its error is
    # shown (RFC 6749, section 5.2)
    said <- unlist(Filter(is.character, parsed[c("error", "why")]))
    vetusta_stop(
      "access",
      paste0(
        "The source ", source$source, " grants no token: HTTP ",
        response$status, if (length(said)) " ",
        redact(
          substr(paste(said, collapse = ", "), 1, 160), source_secrets(source)
        ),
        if (!length(said) && good) {
          paste0(", and nothing at ", at, " in the answer")
        }
      ),
      where = paste0(source$file, ", access"),
      todo = paste0(
        "check whether ", paste(access_secrets(access), collapse = ", "),
        " are right"
      )
    )
  }
  # a lifetime in words is ignored
  lasts <- suppressWarnings(as.numeric(unlist(parsed$lasts)[1] %||% NA))
  list(
    value = token,
    ends = token_end(access, lasts),
    refresh = member_text(parsed$refresh)
  )
}

# A token is renewed shortly before it expires.
token_end <- function(access, lasts = NA) {
  if (!isTRUE(lasts > 0 && is.finite(lasts))) {
    lasts <- (access$lasts %|else|% function(x) time_interval(x)$seconds) %||%
      3600
  }
  as.numeric(Sys.time()) + lasts - min(60, lasts * 0.1)
}

# The token URL: only the source's origin and only encrypted, unless the card
# says otherwise.
token_url <- function(source) {
  access <- source$access
  url <- absolute_url(
    if (grepl("^https?://", access$url)) {
      access$url
    } else {
      paste0(source$url, access$url)
    },
    source$url
  )
  if (!same_origin(url, source$url) && !isTRUE(access$other_origin)) {
    vetusta_stop(
      "card",
      "The token's URL is at another origin than the source.",
      where = paste0(source$file, ", access"),
      todo = paste0(
        "give a path below the source's URL; or, where tokens are granted at ",
        "another origin, write other_origin: true in access"
      )
    )
  }
  if (startsWith(url, "http:") &&
    !is_loopback(curl::curl_parse_url(url)$host) &&
    !source$open_http) {
    vetusta_stop(
      "card",
      paste0(
        "The token's URL uses plain http, so others on the network could ",
        "read the secrets."
      ),
      where = paste0(source$file, ", access"),
      todo = "use https"
    )
  }
  url
}

# OAuth 2.0 (RFC 6749): the authorization code grant (4.1, with the proof of RFC
# 7636), the password grant (4.3), the client credentials grant (4.4) and
# refresh tokens (6). A client may authenticate with a signed assertion (RFC
# 7523, section 2.2).
grant_request <- function(access, secret, url, by = list()) {
  form <- if (!is.null(by$refresh)) {
    list(
      grant_type = "refresh_token", scope = access$scope,
      refresh_token = by$refresh
    )
  } else if (!is.null(by$code)) {
    list(
      grant_type = "authorization_code", code = by$code,
      redirect_uri = access$redirect, code_verifier = by$verifier
    )
  } else {
    list(grant_type = access$grant, scope = access$scope)
  }
  headers <- list(Accept = "application/json")
  if (form$grant_type == "password") {
    form[c("username", "password")] <- list(secret("user"), secret("password"))
  }
  if (identical(access$send_client, "basic")) {
    headers$Authorization <- basic_words(
      secret("client"), secret("client_secret")
    )
  } else {
    form[c("client_id", "client_secret")] <-
      list(secret("client"), secret("client_secret"))
  }
  if (!is.null(access$assertion)) {
    form$client_assertion_type <-
      "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
    form$client_assertion <- signed_assertion(
      secret("client"), url, secret("assertion")
    )
  }
  form <- form[lengths(form) > 0]
  list(
    body = paste(
      names(form), vapply(form, encode_plain, ""),
      sep = "=", collapse = "&"
    ),
    headers = c(
      headers, list("Content-Type" = "application/x-www-form-urlencoded")
    )
  )
}

# A JSON Web Token (RFC 7519) with the claims of RFC 7523: signed with
# HMAC-SHA-256, or with RSA-SHA-256 if the key is a private key in PEM form (RFC
# 7518).
signed_assertion <- function(client, url, key) {
  rsa <- startsWith(key, "-----BEGIN")
  encoded <- function(x) {
    jsonlite::base64url_enc(
      charToRaw(
        as.character(jsonlite::toJSON(x, auto_unbox = TRUE, digits = NA))
      )
    )
  }
  now <- floor(as.numeric(Sys.time()))
  text <- paste(
    encoded(list(alg = if (rsa) "RS256" else "HS256", typ = "JWT")),
    encoded(
      list(
        iss = client, sub = client, aud = url, jti = random_text(), iat = now,
        exp = now + 300
      )
    ),
    sep = "."
  )
  signature <- if (rsa) {
    rsa_signature(text, key)
  } else {
    digest::hmac(charToRaw(key), charToRaw(text), "sha256", raw = TRUE)
  }
  paste0(text, ".", jsonlite::base64url_enc(signature))
}

# The key may have its line breaks escaped, because a secret is one line.
rsa_signature <- function(text, key) {
  if (!requireNamespace("openssl", quietly = TRUE)) {
    vetusta_stop(
      "access", "An assertion signed by RSA needs the package openssl.",
      todo = "install it: install.packages(\"openssl\")"
    )
  }
  key <- openssl::read_key(textConnection(gsub("\\n", "\n", key, fixed = TRUE)))
  openssl::signature_create(charToRaw(text), openssl::sha256, key)
}

random_text <- function() {
  basename(
    tempfile(
      paste0(
        Sys.getpid(), "-",
        format(as.numeric(Sys.time()) * 1e6, scientific = FALSE, digits = 20),
        "-"
      )
    )
  )
}

# A login with the card's body: {user} and {password} are replaced by the
# secrets, escaped for JSON.
login_request <- function(access, secret) {
  template <- access$body %||%
    "{\"user\": \"{user}\", \"password\": \"{password}\"}"
  parts <- intersect(template_variables(template), access_secret_parts)
  values <- stats::setNames(lapply(parts, secret), parts)
  list(
    body = template_expand_plain(template, values),
    headers = list(
      Accept = "application/json", "Content-Type" = "application/json"
    )
  )
}

# A login by a form, with the card's body: secrets are encoded for a form. The
# answer is read as it comes, because a redirect may follow with the cookie.
form_login_request <- function(access, secret) {
  parts <- intersect(template_variables(access$body), access_secret_parts)
  values <- stats::setNames(lapply(parts, secret), parts)
  list(
    body = template_expand_plain(access$body, values, form = TRUE),
    headers = list("Content-Type" = "application/x-www-form-urlencoded"),
    stay = TRUE
  )
}

# The session of a form login: the cookies that its answer sets (RFC 6265).
session_cookie <- function(source, response) {
  cookies <- cookies_set(response$headers[["set-cookie"]])
  if (response$status >= 400 || !length(cookies)) {
    vetusta_stop(
      "access",
      paste0(
        "The source ", source$source, " grants no session: HTTP ",
        response$status,
        if (response$status < 400) ", and the answer sets no cookie"
      ),
      where = paste0(source$file, ", access"),
      todo = paste0(
        "check whether ", paste(access_secrets(source$access), collapse = ", "),
        " are right"
      )
    )
  }
  list(
    value = paste(names(cookies), cookies, sep = "=", collapse = "; "),
    ends = token_end(source$access)
  )
}

# Values by name of Set-Cookie headers joined by commas. Dates contain commas
# too, but no name and equals sign follows those. An empty value deletes a
# cookie.
cookies_set <- function(header) {
  if (is.null(header)) {
    return(character())
  }
  parts <- strsplit(
    header, ",\\s*(?=[!#$%&'*+.^_`|~0-9A-Za-z-]+=)",
    perl = TRUE
  )[[1]]
  pairs <- trimws(sub(";.*", "", parts))
  values <- stats::setNames(sub("^[^=]*=", "", pairs), sub("=.*", "", pairs))
  values[nzchar(values)]
}

`%|else|%` <- function(x, f) if (is.null(x)) NULL else f(x)
