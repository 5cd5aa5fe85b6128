# The Sarn Company Register: a signed assertion, a rotating refresh token, page
# numbers, companies without a report, restated figures, filings and their
# documents.

register_route <- function(path, query, request, state, settings) {
  if (length(path) == 2 && path[2] == "token") {
    return(register_token(request, state))
  }
  token <- sub("^Bearer ", "", request$HTTP_AUTHORIZATION %||% "")
  if (!nzchar(token) ||
    is.null(state$granted[[token]]) ||
    as.numeric(Sys.time()) > state$granted[[token]]) {
    return(
      standin_problem(401L, "token", "A token is needed, or it has run out.")
    )
  }
  if (is.null(state$companies)) state$companies <- register_companies()
  companies <- state$companies
  if (length(path) == 2 && path[2] == "companies") {
    return(register_page(companies, query))
  }
  if (length(path) == 4 && path[2] == "documents") {
    return(register_document(path[3], path[4], companies, request))
  }
  if (length(path) != 4 ||
    path[2] != "companies" ||
    !path[3] %in% companies$code) {
    return(standin_problem(404L, "path", "There is no such company."))
  }
  if (path[4] %in% c("facts", "report") &&
    !companies$reports[companies$code == path[3]]) {
    return(standin_problem(404L, "report", "This company has no report."))
  }
  switch(path[4],
    facts = register_page(register_facts(path[3]), query),
    report = register_report(path[3]),
    filings = register_page(register_filings(path[3]), query),
    standin_problem(404L, "path", "There is nothing at this URL.")
  )
}

# About sixty companies, of which one in ten has no report.
register_companies <- function() {
  known <- quay_instruments()
  others <- market_directory()
  others <- others[others$kind == "share" & !others$code %in% known$code, ]
  rows <- data.frame(
    code = c(known$code, others$code)[1:60],
    title = c(known$name, others$title)[1:60]
  )
  rows$state <- rep(c("Orvane", "Teskland", "Mirholt", "Ludmark"), 15)
  rows$reports <- !rows$code %in% c("LUDX", "BARGE", "WATR") &
    !seq_len(60) %in% c(23, 41, 58)
  rows
}

# Client credentials with a signed assertion (RFC 7523), or a refresh token,
# which is valid once.
register_token <- function(request, state) {
  form <- standin_query(rawToChar(request$rook.input$read()))
  client <- identical(form[["client_id"]], standin_keys[["REGISTER_CLIENT"]]) &&
    assertion_holds(form[["client_assertion"]] %||% "")
  grant <- form[["grant_type"]] %||% ""
  renews <- grant == "refresh_token" &&
    isTRUE(state$refresh[[form[["refresh_token"]] %||% "-"]])
  if (!client || !(renews || grant == "client_credentials")) {
    return(
      standin_json(
        400L, list(error = if (client) "invalid_grant" else "invalid_client")
      )
    )
  }
  if (renews) state$refresh[[form[["refresh_token"]]]] <- FALSE
  number <- paste0(
    length(state$granted) + 1, "-", floor(as.numeric(Sys.time()) * 1000)
  )
  token <- paste0("granted-", number)
  state$granted[[token]] <- as.numeric(Sys.time()) + 25 * 60
  state$refresh[[paste0("refresh-", number)]] <- TRUE
  standin_json(
    200L,
    list(
      access_token = token,
      token_type = "Bearer",
      expires_in = 25 * 60,
      refresh_token = paste0("refresh-", number)
    )
  )
}

# Whether an assertion is the client's, still valid, and signed with its key.
assertion_holds <- function(text) {
  parts <- strsplit(text, ".", fixed = TRUE)[[1]]
  if (length(parts) != 3) {
    return(FALSE)
  }
  signature <- digest::hmac(
    charToRaw(standin_keys[["REGISTER_ASSERTION_KEY"]]),
    charToRaw(paste(parts[1:2], collapse = ".")), "sha256",
    raw = TRUE
  )
  claims <- tryCatch(
    jsonlite::fromJSON(rawToChar(jsonlite::base64url_dec(parts[2]))),
    error = function(e) list()
  )
  identical(jsonlite::base64url_enc(signature), parts[3]) &&
    identical(claims$iss, standin_keys[["REGISTER_CLIENT"]]) &&
    isTRUE(claims$exp > as.numeric(Sys.time()))
}

# The items of three statements. Flows have a start and an end, stocks a day.
register_items <- list(
  income = c(
    "revenue", "freight_revenue", "terminal_revenue", "other_revenue",
    "fuel_cost", "crew_cost", "port_fees", "maintenance_cost", "depreciation",
    "administration_cost", "operating_profit", "interest_paid",
    "interest_received", "profit_before_tax", "tax", "net_profit"
  ),
  balance = c(
    "cash", "receivables", "inventories", "current_assets", "vessels",
    "terminals", "other_assets", "total_assets", "payables", "short_term_debt",
    "long_term_debt", "provisions", "total_liabilities", "share_capital",
    "retained_earnings", "equity"
  ),
  cash = c("operating_cash_flow", "investment_cash_flow", "financing_cash_flow")
)

register_columns <- c(
  "revenue", "operating_profit", "net_profit", "total_assets", "equity"
)

# Ten years of quarters: five random items, and thirty that follow from them and
# add up.
register_quarters <- function(code) {
  quarters <- seq(as.Date("2016-01-01"), as.Date("2025-10-01"), by = "3 months")
  n <- length(quarters)
  fields <- lapply(
    stats::setNames(seq_along(register_columns), register_columns),
    function(i) {
      level <- c(900, 120, 80, 4200, 1700)[i] *
        exp(0.02 * (as.POSIXlt(quarters)$year - 119))
      round(level * exp(0.1 * seeded_normal(paste0("facts", code, i), n)) * 1e4)
    }
  )
  part <- function(total, key, share) {
    round(total * share * exp(0.05 * seeded_normal(paste0(key, code), n)))
  }
  x <- fields
  x$freight_revenue <- part(x$revenue, "freight", 0.7)
  x$terminal_revenue <- part(x$revenue, "terminal", 0.2)
  x$other_revenue <- x$revenue - x$freight_revenue - x$terminal_revenue
  cost <- x$revenue - x$operating_profit
  shares <- c(
    fuel_cost = 0.3, crew_cost = 0.25, port_fees = 0.1,
    maintenance_cost = 0.12, depreciation = 0.13
  )
  for (item in names(shares)) x[[item]] <- part(cost, item, shares[[item]])
  x$administration_cost <- cost - x$fuel_cost - x$crew_cost - x$port_fees -
    x$maintenance_cost - x$depreciation
  x$interest_paid <- part(x$operating_profit, "interest", 0.1)
  x$interest_received <- part(x$operating_profit, "received", 0.02)
  x$profit_before_tax <- x$operating_profit - x$interest_paid +
    x$interest_received
  x$tax <- x$profit_before_tax - x$net_profit
  x$cash <- part(x$total_assets, "cash", 0.08)
  x$receivables <- part(x$total_assets, "receivables", 0.1)
  x$inventories <- part(x$total_assets, "inventories", 0.04)
  x$current_assets <- x$cash + x$receivables + x$inventories
  x$vessels <- part(x$total_assets, "vessels", 0.5)
  x$terminals <- part(x$total_assets, "terminals", 0.2)
  x$other_assets <- x$total_assets - x$current_assets - x$vessels - x$terminals
  x$total_liabilities <- x$total_assets - x$equity
  x$payables <- part(x$total_liabilities, "payables", 0.2)
  x$short_term_debt <- part(x$total_liabilities, "short", 0.15)
  x$provisions <- part(x$total_liabilities, "provisions", 0.1)
  x$long_term_debt <- x$total_liabilities - x$payables - x$short_term_debt -
    x$provisions
  x$share_capital <- rep(round(x$equity[1] * 0.4), n)
  x$retained_earnings <- x$equity - x$share_capital
  x$operating_cash_flow <- x$net_profit + x$depreciation
  x$investment_cash_flow <- -part(x$depreciation, "investment", 1.2)
  x$financing_cash_flow <- part(x$total_assets, "financing", 0.01) -
    x$interest_paid
  list(starts = quarters, items = x)
}

# Three quarters and the year are reported, the fourth quarter is not; some
# flows of the previous year are restated in the next year's report.
register_facts <- function(code) {
  all <- register_quarters(code)
  ends <- shift_day(all$starts, interval_of(3, "month")) - 1
  month <- as.POSIXlt(ends)$mon + 1
  year <- format(ends, "%Y")
  rows <- lapply(unlist(register_items, use.names = FALSE), function(item) {
    value <- all$items[[item]]
    of_day <- item %in% register_items$balance
    last <- which(month == 12)
    whole <- if (of_day) value[last] else as.numeric(tapply(value, year, sum))
    early <- which(month != 12)
    starts <- c(format(all$starts[early]), paste0(year[last], "-01-01"))
    data.frame(
      item = item,
      start = if (of_day) NA_character_ else starts,
      end = format(c(ends[early], ends[last])),
      basis = rep(c("quarterly", "annual"), c(length(early), length(last))),
      amount = c(value[early], whole),
      money = "ORV",
      filed = format(c(ends[early] + 40, ends[last] + 70))
    )
  })
  rows <- do.call(rbind, rows)
  again <- rows[
    rows$basis == "annual" &
      rows$item %in% c("revenue", "freight_revenue", "operating_profit") &
      rows$end < "2025-01-01",
  ]
  again <- again[seeded_uniform(paste0("restated", code), nrow(again)) < 0.25, ]
  again$amount <- round(again$amount * 1.015)
  again$filed <- format(as.Date(again$filed) + 365)
  rows <- rbind(rows, again)
  rows[order(rows$end, rows$filed), ]
}

# The newest year as xBRL-JSON: the whole company and its two segments.
register_report <- function(code) {
  rows <- register_facts(code)
  rows <- rows[
    rows$end >= "2025-01-01" &
      rows$basis == "quarterly" &
      rows$item %in% register_columns,
  ]
  # an instant is written as the end of its day
  begins <- ifelse(is.na(rows$start), "", paste0(rows$start, "T00:00:00/"))
  fact <- function(i, segment = NULL, share = 1) {
    list(
      value = format(round(rows$amount[i] * share), scientific = FALSE),
      decimals = -4,
      dimensions = c(
        list(
          concept = paste0("inv:", rows$item[i]),
          entity = paste0("reg:", code),
          unit = "iso4217:ORV",
          period = paste0(begins[i], as.Date(rows$end[i]) + 1, "T00:00:00")
        ),
        if (!is.null(segment)) list("inv:segment" = segment)
      )
    )
  }
  facts <- c(
    lapply(seq_len(nrow(rows)), fact),
    lapply(
      which(rows$item == "revenue"), fact,
      segment = "inv:barges", share = 0.7
    ),
    lapply(
      which(rows$item == "revenue"), fact,
      segment = "inv:terminals",
      share = 0.3
    )
  )
  standin_json(
    200L,
    list(
      documentInfo = list(documentType = "https://xbrl.org/2021/xbrl-json"),
      facts = stats::setNames(facts, paste0("f", seq_along(facts)))
    )
  )
}

register_filings <- function(code) {
  ends <- seq(
    as.Date("2016-03-31") + 1, as.Date("2025-12-31") + 1,
    by = "3 months"
  ) -
    1
  annual <- format(ends, "%m") == "12"
  quarter <- (as.POSIXlt(ends)$mon + 1) / 3
  year <- format(ends, "%Y")
  name <- ifelse(annual, paste0(year, "-annual"), paste0(year, "-q", quarter))
  rows <- data.frame(
    kind = ifelse(annual, "annual report", "quarterly report"),
    filed = format(ends + ifelse(annual, 70, 40)),
    title = ifelse(
      annual, paste("Annual report", year),
      paste0("Report of quarter ", quarter, " of ", year)
    ),
    link = paste0("/register/documents/", tolower(code), "/", name, ".html")
  )
  # older documents are on another server
  old <- rows$filed < "2017-01-01"
  rows$link[old] <- paste0(
    "https://archive.example.org", sub("/register", "", rows$link[old])
  )
  rows
}

# A report as a document, with validators and byte ranges (RFC 9110).
register_document <- function(code, name, companies, request) {
  at <- match(toupper(code), companies$code)
  filings <- if (!is.na(at)) register_filings(companies$code[at])
  row <- match(paste0("/register/documents/", code, "/", name), filings$link)
  if (is.na(row)) {
    return(standin_problem(404L, "document", "There is no such document."))
  }
  lines <- c(
    "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\">",
    paste0(
      "<title>", filings$title[row], "</title></head><body><h1>",
      companies$title[at], ": ", filings$title[row], "</h1>"
    ),
    sprintf(
      "<p>Filed on %s with the Sarn Company Register.</p>", filings$filed[row]
    ),
    rep("<p>The barges went up and down the Sarn, as in other years.</p>", 60),
    "</body></html>"
  )
  body <- charToRaw(paste0(paste(lines, collapse = "\n"), "\n"))
  from <- suppressWarnings(
    as.numeric(sub("^bytes=([0-9]+)-$", "\\1", request$HTTP_RANGE %||% ""))
  )
  part <- !is.na(from) && from < length(body)
  list(
    status = if (part) 206L else 200L,
    headers = c(
      list(
        "Content-Type" = "text/html",
        ETag = paste0("\"", code, "-", sub("[.].*", "", name), "\"")
      ),
      if (part) {
        list(
          "Content-Range" = sprintf(
            "bytes %.0f-%d/%d", from, length(body) - 1L, length(body)
          )
        )
      }
    ),
    body = if (part) body[(from + 1):length(body)] else body
  )
}

register_page <- function(rows, query) {
  number <- suppressWarnings(as.numeric(query$page %||% 1))
  pages <- max(1, ceiling(nrow(rows) / 1000))
  if (is.na(number) || number < 1) {
    return(standin_problem(400L, "page", "page is 1 or more."))
  }
  standin_json(
    200L,
    list(
      page = number,
      pages = pages,
      rows = rows[
        seq_len(nrow(rows)) > (number - 1) * 1000 &
          seq_len(nrow(rows)) <= number * 1000,
      ]
    )
  )
}
