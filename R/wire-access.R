# The credential of a call: put on at the last moment, and only for the source's own origin. A
# token is asked for when it is
# first needed, kept in memory alone, renewed before it runs out and once more when it is refused;
# calls at once share it.

wire_signed <- function(request, source, tokens = new.env(parent = emptyenv())) {
  request$headers <- utils::modifyList(request$headers, as.list(source$headers))
  if (is.list(request$body)) {
    request$body <- request_body(request)
    request$address <- sub("#.*", "", request$address)
  }
  access <- source$access
  if (access$by == "none" || !same_origin(request$address, source$address)) {
    return(request)
  }
  secret <- function(part, i = 1) reveal(source_secret(source, access[[part]][[i]]))
  switch(access$by,
    query = request$address <- with_parameter(request$address, access$name, secret("secret")),
    header = request$headers[[access$name]] <- paste0(access$prefix, secret("secret")),
    bearer = request$headers[["Authorization"]] <- paste("Bearer", secret("secret")),
    basic = request$headers[["Authorization"]] <- basic_words(secret("user"), secret("password")),
    pair = for (i in 1:2) request$headers[[access$names[[i]]]] <- secret("secrets", i),
    token = request$headers[["Authorization"]] <- paste("Bearer", access_token(source, tokens))
  )
  request
}

access_token <- function(source, tokens) {
  if (is.null(tokens$value) || as.numeric(Sys.time()) >= tokens$ends) {
    answer <- ask_token(source)
    tokens$value <- answer$value
    tokens$ends <- answer$ends
  }
  tokens$value
}

# OAuth 2.0 (RFC 6749): the password grant (4.3) and the client credentials grant (4.4).
ask_token <- function(source) {
  access <- source$access
  address <-
    absolute_address(if (grepl("^https?://", access$address)) access$address
    else paste0(source$address, access$address), source$address)
  if (!same_origin(address, source$address) && !isTRUE(access$other_origin)) {
    vetusta_stop("card", "The token's address is not at the source's own origin.",
      where = paste0(source$file, ", access"),
      todo = paste0("give a path below the source's address; or, where tokens are granted at ",
        "another place, say other_origin: true in access"))
  }
  if (startsWith(address, "http:") && !is_loopback(curl::curl_parse_url(address)$host) &&
    !source$open_http) {
    vetusta_stop("card",
      paste0("The token's address is http, and not on this machine: everybody on the way could ",
        "read the secrets."), where = paste0(source$file, ", access"), todo = "use https")
  }
  secret <- function(part) {
    if (!is.null(access[[part]])) reveal(source_secret(source,
    access[[part]]))
  }
  form <- list(grant_type = access$grant, scope = access$scope)
  headers <- list(Accept = "application/json")
  if (access$grant == "password") {
    form[c("username", "password")] <- list(secret("user"), secret("password"))
  }
  if (identical(access$send_client, "basic")) headers$Authorization <- basic_words(secret("client"),
    secret("client_secret"))
  else form[c("client_id", "client_secret")] <- list(secret("client"), secret("client_secret"))
  form <- form[lengths(form) > 0]
  body <- paste(names(form), vapply(form, encode_plain, ""), sep = "=", collapse = "&")
  request <- list(address = address, method = "POST", body = body,
    headers = c(headers, list("Content-Type" = "application/x-www-form-urlencoded")))
  response <- fetch_patiently(function() request, source$patience,
    secrets = function() source_secrets(source))
  words <- tryCatch(parse_json(response$body, "the token"),
    vetusta_error_payload = function(e) NULL)
  token <- if (is.list(words) && response$status == 200) words$access_token
  if (!is.character(token) || length(token) != 1 || is.na(token) || !nzchar(token)) {
    # the answer may hold a token under another name: only its own words of error are shown (RFC
    # 6749, section 5.2)
    said <- if (is.list(words)) unlist(Filter(is.character,
      words[intersect(c("error", "error_description"), names(words))]))
    vetusta_stop("access",
      paste0("The source ", source$source, " gives no token: HTTP ", response$status,
        if (length(said)) " ", redact(substr(paste(said, collapse = ", "), 1, 160),
      source_secrets(source)),
      if (!length(said) && response$status == 200) ", and no member access_token in the answer"),
      where = paste0(source$file, ", access"),
      todo = paste0("look whether ", paste(access_secrets(access), collapse = ", "), " are right"))
  }
  # a word for how long, where a number is due, says nothing
  lasts <- suppressWarnings(as.numeric(unlist(words$expires_in)[1] %||% NA))
  if (!isTRUE(lasts > 0 && is.finite(lasts))) {
    lasts <- (access$lasts %|else|% function(x) time_interval(x)$seconds) %||% 3600
  }
  list(value = token, ends = as.numeric(Sys.time()) + lasts - min(60, lasts * 0.1))
}

`%|else|%` <- function(x, f) if (is.null(x)) NULL else f(x)
