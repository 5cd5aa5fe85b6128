# The Quay Archive Hall: a job that is requested, polled, and downloaded.

hall_route <- function(path, query, request, state, settings) {
  if (!identical(request$HTTP_X_HALL_ID, standin_keys[["HALL_ID"]]) ||
    !identical(request$HTTP_X_HALL_SECRET, standin_keys[["HALL_SECRET"]])) {
    return(
      standin_problem(
        401L, "keys", "The headers X-Hall-Id and X-Hall-Secret are needed."
      )
    )
  }
  contracts <- c("GRAIN", "GASOIL", "GRAVEL", "SALT")
  if (length(path) == 3 &&
    path[2] == "exports" &&
    request$REQUEST_METHOD == "POST" &&
    path[3] %in% contracts) {
    ticket <- paste0(tolower(path[3]), "-", length(state$tickets) + 1)
    state$tickets[[ticket]] <-
      list(contract = path[3], ready = as.numeric(Sys.time()) + 1.5)
    return(standin_json(202L, list(ticket = ticket)))
  }
  if (length(path) == 2 &&
    path[2] == "options" &&
    request$REQUEST_METHOD == "POST") {
    return(hall_options_ask(request, contracts, state))
  }
  if (length(path) == 3 &&
    path[2] == "exports" &&
    !is.null(state$tickets[[path[3]]])) {
    done <- as.numeric(Sys.time()) >= state$tickets[[path[3]]]$ready
    left <- state$tickets[[path[3]]]$ready - as.numeric(Sys.time())
    return(
      standin_json(
        200L,
        if (done) {
          list(
            state = "ready",
            link = paste0("/hall/files/", path[3], ".csv.gz")
          )
        } else {
          list(
            state = "waiting", place = 1 + floor(left / 0.5),
            expected = ceiling(left)
          )
        }
      )
    )
  }
  if (length(path) == 3 && path[2] == "files") {
    asked <- state$tickets[[sub(".csv.gz", "", path[3], fixed = TRUE)]]
    return(
      if (is.null(asked$filters)) {
        hall_file(asked$contract, request)
      } else {
        hall_send(hall_options(asked$filters), request)
      }
    )
  }
  standin_problem(404L, "path", "There is nothing at this URL.")
}

hall_file <- function(contract, request) {
  if (is.null(contract)) {
    return(standin_problem(404L, "file", "There is no such file."))
  }
  all <- hall_closes(contract, source_calendar_for_standin())
  days <- all$day
  n <- length(days)
  close <- all$close
  open <- c(100, close[-n])
  reach <- 0.3 * abs(seeded_normal(paste0("hallreach", contract), n))
  lines <- sprintf(
    "%s;%.3f;%.3f;%.3f;%.3f;%d", days, open, pmax(open, close) + reach,
    pmin(open, close) - reach, close,
    as.integer(100 + 900 * seeded_uniform(paste0("hallqty", contract), n))
  )
  hall_send(c("day;first;top;low;last;lots", lines), request)
}

# Options are requested with filters, each of which is optional.
hall_options_ask <- function(request, contracts, state) {
  asked <- tryCatch(
    jsonlite::fromJSON(rawToChar(request$rook.input$read())),
    error = function(e) list()
  )
  words <- c(
    "from", "until", "days_from", "days_to", "moneyness_from", "moneyness_to",
    "open_interest_from", "kind"
  )
  asked <- lapply(stats::setNames(nm = c("underlying", words)), function(name) {
    value <- asked[[name]]
    if (is.null(value) || !nzchar(value)) NULL else value
  })
  days <- read_day(as.character(c(asked$from %||% NA, asked$until %||% NA)))
  if (!isTRUE(asked$underlying %in% contracts)) {
    return(standin_problem(400L, "underlying", "There are no options on this."))
  }
  if (anyNA(days) || days[1] > days[2] || as.numeric(diff(days)) > 400) {
    return(
      standin_problem(
        400L, "days", "from and until are days, at most 400 apart."
      )
    )
  }
  ticket <- paste0("options-", length(state$tickets) + 1)
  state$tickets[[ticket]] <-
    list(filters = asked, ready = as.numeric(Sys.time()) + 0.5)
  standin_json(202L, list(ticket = ticket))
}

# Calls and puts on a contract by Black's formula (1976), with three expiries
# and nine strikes a day. Moneyness is the strike divided by the contract's
# price.
hall_options <- function(filters) {
  calendar <- source_calendar_for_standin()
  all <- hall_closes(filters$underlying, calendar)
  all <- all[all$day >= filters$from & all$day <= filters$until, ]
  grid <- expand.grid(
    kind = c("call", "put"),
    percent = seq(80, 120, by = 4),
    month = 1:3,
    at = seq_len(nrow(all)),
    stringsAsFactors = FALSE
  )
  day <- as.Date(all$day[grid$at])
  first <- as.Date(format(day, "%Y-%m-01"))
  expiry <- shift_day(first, interval_of(1, "month"), grid$month) + 14
  price <- all$close[grid$at]
  strike <- round(price * grid$percent / 100, 1)
  left <- as.numeric(expiry - day)
  spread <- 0.2 * sqrt(left / 365)
  d <- log(price / strike) / spread + spread / 2
  call <- price * stats::pnorm(d) - strike * stats::pnorm(d - spread)
  value <- ifelse(grid$kind == "call", call, call - price + strike)
  open <- floor(
    900 * exp(-abs(grid$percent - 100) / 12) *
      seeded_uniform(paste0("interest", filters$underlying), nrow(grid))
  )
  number <- function(name, otherwise) as.numeric(filters[[name]] %||% otherwise)
  kept <- left >= number("days_from", 0) &
    left <= number("days_to", 1e6) &
    grid$percent >= 100 * number("moneyness_from", 0) &
    grid$percent <= 100 * number("moneyness_to", 1e6) &
    open >= number("open_interest_from", 0) &
    grid$kind %in% (filters$kind %||% c("call", "put"))
  c(
    "day;contract;expiry;strike;kind;price;of;open",
    sprintf(
      "%s;%s-%s;%s;%.1f;%s;%.3f;%.3f;%d", day,
      substr(filters$underlying, 1, 3), format(expiry, "%y%m"), expiry, strike,
      grid$kind, value, price, as.integer(open)
    )[kept]
  )
}

hall_closes <- function(contract, calendar) {
  days <- calendar_days(calendar, "2010-01-04", "2025-12-30")
  data.frame(
    day = as.character(days),
    close = 100 *
      exp(cumsum(0.012 * seeded_normal(paste0("hall", contract), length(days))))
  )
}

# Lines as a compressed file, or a byte range of it (RFC 9110).
hall_send <- function(lines, request) {
  file <- gzip_bytes(paste0(paste(lines, collapse = "\n"), "\n"))
  start <- as.numeric(
    sub("^bytes=([0-9]+)-.*", "\\1", request$HTTP_RANGE %||% "bytes=0-")
  )
  if (is.na(start) || start >= length(file)) {
    return(
      list(
        status = 416L,
        headers = list("Content-Range" = paste0("bytes */", length(file))),
        body = ""
      )
    )
  }
  part <- file[(start + 1):length(file)]
  list(
    status = if (start > 0) 206L else 200L,
    headers = list(
      "Content-Type" = "application/gzip",
      "Content-Range" = sprintf(
        "bytes %d-%d/%d", start, length(file) - 1L, length(file)
      )
    )[start > 0 | c(TRUE, FALSE)],
    body = part
  )
}

gzip_bytes <- function(text) {
  file <- tempfile()
  on.exit(unlink(file))
  connection <- gzfile(file, "wb")
  writeBin(charToRaw(text), connection)
  close(connection)
  readBin(file, "raw", file.size(file))
}
