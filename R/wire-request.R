# A request is a plain list: URL (without credentials), headers, and the access
# that is applied when it is sent.

wire_request <- function(source, dataset, values) {
  url <- template_expand(dataset$request, values)
  paging <- first_page_value(dataset$next_page)
  if (!is.null(paging) && sends_header(dataset$next_page)) {
    url <- page_url(url, dataset, paging)
  } else if (!is.null(paging) && is.null(values[[dataset$next_page$send]])) {
    values[[dataset$next_page$send]] <- paging
  }
  body <- if (!is.null(dataset$body)) {
    list(
      template = dataset$body,
      values = values,
      form = is_form(source$headers)
    )
  }
  accept <- c(
    json = "application/json", csv = "text/csv",
    tsv = "text/tab-separated-values", "json-stat" = "application/json",
    "xbrl-json" = "application/json", "json-lines" = "application/x-ndjson",
    xml = "application/xml",
    xlsx = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
  )[[dataset$format %||% "json"]]
  headers <- c(
    list(Accept = accept),
    if (!is.null(body)) list("Content-Type" = "application/json")
  )
  list(
    url = if (grepl("^https?://", url)) url else paste0(source$url, url),
    method = dataset$method %||% "GET",
    body = body,
    headers = headers
  )
}

# The request's body with its values; a page's value is taken from the URL's
# fragment.
request_body <- function(request) {
  values <- request$body$values
  fragment <- sub("^[^#]*#?", "", request$url)
  if (nzchar(fragment)) {
    values[[utils::URLdecode(sub("=.*", "", fragment))]] <-
      utils::URLdecode(sub("^[^=]*=", "", fragment))
  }
  template_expand_plain(request$body$template, values, request$body$form)
}

# A page that is requested by a header is named in the URL's fragment, which is
# not sent.
with_page_header <- function(request) {
  fragment <- sub("^[^#]*#?", "", request$url)
  request$url <- sub("#.*", "", request$url)
  if (startsWith(fragment, "header%20")) {
    name <- utils::URLdecode(sub("=.*", "", sub("^header%20", "", fragment)))
    request$headers[[name]] <- utils::URLdecode(sub("^[^=]*=", "", fragment))
  }
  request
}

# Whether bodies are forms, by the card's headers.
is_form <- function(headers) {
  any(
    grepl(
      "x-www-form-urlencoded",
      unlist(headers[tolower(names(headers)) == "content-type"]),
      fixed = TRUE
    )
  )
}

# Distinguishes requests to the same URL.
request_key <- function(request) {
  paste(
    c(request$url, if (is.list(request$body)) request_body(request)),
    collapse = " "
  )
}

# The values of a request's template variables in the API's form: the card
# states for each what it gives and how.
dataset_values <- function(dataset, known, zone = "UTC") {
  variables <- unique(template_variables(paste0(dataset$request, dataset$body)))
  values <- lapply(variables, function(name) {
    rule <- dataset$parameters[[name]] %||% list()
    if (!is.null(rule$value)) {
      return(as.character(rule$value))
    }
    value <- known[[rule$gives %||% name]]
    if (is.null(value)) NULL else write_value(value, rule, name, dataset, zone)
  })
  stats::setNames(values, variables)
}

write_value <- function(value, rule, name, dataset, zone = "UTC") {
  if (length(value) > 1) {
    value <- vapply(
      value, write_value, "",
      rule = rule, name = name, dataset = dataset,
      zone = zone, USE.NAMES = FALSE
    )
    return(
      if (is.null(rule$join)) value else paste(value, collapse = rule$join)
    )
  }
  if (inherits(value, "POSIXct")) {
    return(
      write_instant(
        window_edge(value, rule, rule$gives %||% name, zone),
        rule$as %||% "rfc3339", zone, rule$written
      )
    )
  }
  text <- if (is.numeric(value)) {
    format(value, scientific = FALSE, trim = TRUE, digits = 15)
  } else {
    as.character(value)
  }
  if (is.null(rule$words)) {
    return(text)
  }
  known <- rule$words[[text]] %||%
    if ((rule$gives %||% name) == "interval") interval_word(rule$words, text)
  if (is.null(known)) {
    vetusta_stop(
      "argument",
      paste0(
        "The dataset ", dataset$name, " has no ", rule$gives %||% name, " \"",
        text, "\"."
      ),
      todo = paste0(
        "choose one of: ", paste(names(rule$words), collapse = ", ")
      )
    )
  }
  as.character(known)
}

# A card may write a length in several ways: "1 minute", PT1M, p1d.
interval_word <- function(words, iso) {
  codes <- vapply(
    names(words),
    function(name) {
      tryCatch(time_interval(name)$iso, vetusta_error = function(e) name)
    },
    ""
  )
  at <- match(iso, codes)
  if (!is.na(at)) words[[at]]
}

# A window's edge as the service counts it: a day as an end is the window's last
# day, unless the service excludes it; an excluded start is stated a day, second
# or millisecond earlier.
window_edge <- function(instant, rule, gives, zone) {
  exclusive <- isTRUE(rule$exclusive)
  if (gives == "to" && identical(rule$as, "day")) {
    return(if (exclusive) day_after(instant, zone) else instant - 1)
  }
  as <- rule$as %||% "rfc3339"
  # an inclusive end lies one step before the next window
  if (gives == "to" && isTRUE(rule$inclusive)) {
    return(
      instant - if (as %in% c("epoch-ms", "epoch-us", "epoch-ns")) 0.001 else 1
    )
  }
  if (gives != "from" || !exclusive) {
    return(instant)
  }
  if (as == "day") {
    time_local(local_day(instant, zone) - 1, 0, zone)
  } else {
    instant - if (as %in% c("epoch-ms", "epoch-us", "epoch-ns")) 0.001 else 1
  }
}

# The first day that lies wholly after a window's end.
day_after <- function(instant, zone) {
  time_local(local_day(instant - 1, zone) + 1, 0, zone)
}

write_instant <- function(instant, as, zone = "UTC", written = NULL) {
  if (!is.null(written)) {
    tz <- if (as == "rfc3339") "UTC" else zone
    # strftime() has no code for the number of the quarter
    quarter <- (as.integer(format(instant, "%m", tz = tz)) + 2L) %/% 3L
    return(format(instant, gsub("%q", quarter, written, fixed = TRUE), tz = tz))
  }
  seconds <- as.numeric(instant)
  whole <- function(x) sprintf("%.0f", round(x) + 0)
  switch(as,
    "epoch-s" = whole(seconds),
    "epoch-ms" = whole(seconds * 1e3),
    "epoch-us" = whole(seconds * 1e6),
    "epoch-ns" = paste0(whole(seconds * 1e3), "000000"),
    day = format(instant, "%Y-%m-%d", tz = zone),
    local = format(instant, "%Y-%m-%dT%H:%M:%S", tz = zone),
    rfc3339 = ,
    text = format_instant(instant)
  )
}

with_parameter <- function(url, name, value) {
  query <- sub("^[^?]*[?]?", "", sub("#.*", "", url))
  kept <- strsplit(query, "&", fixed = TRUE)[[1]]
  coded <- encode_plain(c(name, value))
  kept <- kept[nzchar(kept) & !startsWith(kept, paste0(coded[1], "="))]
  paste0(
    sub("[?#].*", "", url), "?",
    paste(c(kept, paste0(coded[1], "=", coded[2])), collapse = "&")
  )
}

origin_of <- function(url) {
  parts <- tryCatch(curl::curl_parse_url(url), error = function(e) NULL)
  if (is.null(parts)) {
    return(NA_character_)
  }
  port <- if (length(parts$port)) {
    parts$port
  } else {
    c(http = "80", https = "443")[[parts$scheme]]
  }
  tolower(paste0(parts$scheme, "://", parts$host, ":", port))
}

same_origin <- function(a, b) {
  # usually both begin alike up to the path; a URL with a user name is compared
  # in full
  plain <- sub("^(https?://[A-Za-z0-9.-]+(:[0-9]+)?)/.*$", "\\1", c(a, b))
  if (isTRUE(plain[1] == plain[2]) &&
    all(grepl("^https?://[A-Za-z0-9.-]+(:[0-9]+)?$", plain))) {
    return(TRUE)
  }
  isTRUE(origin_of(a) == origin_of(b))
}

# A next URL may be relative to the current one.
absolute_url <- function(url, base) {
  tryCatch(
    curl::curl_parse_url(url, baseurl = base)$url,
    error = function(e) NA_character_
  )
}

# The credential of a request: applied just before sending, and only for the
# source's origin.

wire_signed <- function(request, source,
                        tokens = new.env(parent = emptyenv())) {
  if (length(source$headers)) {
    request$headers <- utils::modifyList(
      request$headers, as.list(source$headers)
    )
  }
  if (is.list(request$body)) request$body <- request_body(request)
  if (grepl("#", request$url, fixed = TRUE)) {
    request <- with_page_header(request)
  }
  access <- source$access
  if (access$by == "none" || !same_origin(request$url, source$url)) {
    return(request)
  }
  secret <- function(part, i = 1) secret_value(source, access[[part]][[i]])
  switch(access$by,
    query = request$url <- with_parameter(
      request$url, access$name, secret("secret")
    ),
    # the place of the secret in the path, also in URLs that the service repeats
    path = request$url <- gsub(
      "%3Csecret%3E|<secret>", encode_plain(secret("secret")), request$url,
      ignore.case = TRUE
    ),
    header = request$headers[[access$name]] <-
      paste0(access$prefix, secret("secret")),
    bearer = request$headers[["Authorization"]] <-
      paste("Bearer", secret("secret")),
    basic = request$headers[["Authorization"]] <-
      basic_words(secret("user"), secret("password")),
    pair = for (i in 1:2) {
      request$headers[[access$names[[i]]]] <- secret("secrets", i)
    },
    token = request$headers[["Authorization"]] <-
      paste("Bearer", access_token(source, tokens)),
    login = request$headers[[access$name]] <-
      paste0(access$prefix, access_token(source, tokens)),
    "form-login" = {
      request$headers[["Cookie"]] <- access_token(source, tokens)
      request$login <- token_url(source)
    },
    signature = request <- with_signature(request, source)
  )
  request
}
