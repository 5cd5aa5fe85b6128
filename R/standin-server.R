# The stand-in services: one small local server, which keeps the request times
# of each caller.

standin_keys <- c(
  QUAY_KEY = "quay-demo-7f3a91", FIXING_TOKEN = "fixing-demo-51c0",
  SURVEY_TOKEN = "survey-demo-88ab", REGISTER_CLIENT = "freight-desk",
  REGISTER_ASSERTION_KEY = "register-demo-key-2d9e71c4",
  HALL_ID = "hall-id-demo", HALL_SECRET = "hall-demo-c77f"
)

# `now` returns the services' time in seconds; `most` is the largest page.
standin_app <- function(now = function() as.numeric(Sys.time()), most = 240L,
                        requests_a_minute = 90L, fault = NULL, every = 3L,
                        release = 2, availability = TRUE, rehearsal = FALSE) {
  state <- new.env(parent = emptyenv())
  state$requests <- list()
  state$granted <- list()
  state$tickets <- list()
  state$answers <- 0
  state$started <- as.numeric(Sys.time())
  state$cache <- new.env(parent = emptyenv())
  calendar <- source_calendar_for_standin()
  settings <- list(
    now = now, most = most, requests_a_minute = requests_a_minute,
    calendar = calendar, release = release, availability = availability,
    rehearsal = rehearsal
  )
  list(call = function(request) {
    answer <- tryCatch(
      standin_route(request, state, settings),
      error = function(e) {
        standin_problem(
          500L, "internal", "The service failed; nothing was changed."
        )
      }
    )
    state$answers <- state$answers + 1
    if (isTRUE(fault %in% standin_answer_faults) &&
      state$answers %% every == 0) {
      standin_spoil(answer, fault)
    } else {
      answer
    }
  })
}

standin_route <- function(request, state, settings) {
  path <- strsplit(utils::URLdecode(request$PATH_INFO), "/", fixed = TRUE)[[1]][
    -1
  ]
  if (!length(path)) path <- ""
  posts <- path[1] == "hall" || identical(path[1:2], c("register", "token"))
  if (request$REQUEST_METHOD != "GET" &&
    !(posts && request$REQUEST_METHOD == "POST")) {
    return(standin_problem(405L, "method", "Only GET is understood here."))
  }
  query <- standin_query(request$QUERY_STRING)
  if (rehearsal_away(path[1], settings)) {
    return(standin_problem(503L, "away", "The service is being repaired."))
  }
  switch(path[1],
    quay = quay_route(path, query, request, state, settings),
    fixing = fixing_route(path, query, request, state, settings),
    river = river_route(path, query, request, state, settings),
    register = register_route(path, query, request, state, settings),
    hall = hall_route(path, query, request, state, settings),
    basin = basin_route(path, query, request, state, settings),
    standin_problem(404L, "path", "There is nothing at this URL.")
  )
}

standin_query <- function(text) {
  parts <- strsplit(sub("^[?]", "", text), "&", fixed = TRUE)[[1]]
  parts <- parts[nzchar(parts)]
  stats::setNames(
    lapply(sub("^[^=]*=?", "", parts), utils::URLdecode),
    vapply(sub("=.*", "", parts), utils::URLdecode, "", USE.NAMES = FALSE)
  )
}

quay_route <- function(path, query, request, state, settings) {
  if (!identical(query$key, standin_keys[["QUAY_KEY"]])) {
    return(
      standin_problem(
        401L, "key", "A valid key is needed as the parameter key."
      )
    )
  }
  wait <- standin_turn(state, "quay", settings$requests_a_minute, 60)
  if (wait > 0) {
    return(
      standin_problem(
        429L, "calls",
        paste0(
          "More than ", settings$requests_a_minute, " requests in a minute."
        ),
        list("Retry-After" = as.character(ceiling(wait)))
      )
    )
  }
  if (is.null(state$directory)) state$directory <- market_directory()
  if (length(path) == 4 && path[2] == "bars") {
    quay_answer(path[3], path[4], query, request, state, settings)
  } else if (length(path) == 3 && path[2] == "directory") {
    directory_page(path[3], query, state$directory)
  } else if (length(path) == 2 && path[2] == "market") {
    market_snapshot(state$directory)
  } else if (length(path) == 2 && path[2] == "actions") {
    quay_actions_page(query, settings)
  } else if (length(path) == 2 && path[2] == "contracts") {
    quay_contracts_page(query, settings)
  } else if (length(path) == 2 && path[2] == "members") {
    quay_members_page(settings)
  } else {
    standin_problem(404L, "path", "There is nothing at this URL.")
  }
}

quay_answer <- function(code, word, query, request, state, settings) {
  intervals <- c(
    m1 = "PT1M", m5 = "PT5M", m15 = "PT15M", m30 = "PT30M", h1 = "PT1H",
    d1 = "P1D"
  )
  if (!word %in% names(intervals)) {
    return(
      standin_problem(
        400L, "interval",
        paste0(
          "The interval must be one of ",
          paste(names(intervals), collapse = ", "), "."
        )
      )
    )
  }
  if (is_contract(code) && word != "d1") {
    return(standin_problem(400L, "interval", "Contracts have days alone: d1."))
  }
  if (!is_contract(code) && is.null(quay_instrument(code, state$directory))) {
    return(standin_problem(404L, "code", "No instrument has this code."))
  }
  from <- suppressWarnings(as.numeric(query$from %||% NA)) / 1000
  until <- suppressWarnings(as.numeric(query$until %||% NA)) / 1000
  rows <- suppressWarnings(as.numeric(query$rows %||% settings$most))
  if (is.na(from) || is.na(until) || from >= until) {
    return(
      standin_problem(
        400L, "range",
        paste0(
          "The parameters from and until are needed, in milliseconds, from ",
          "before until."
        )
      )
    )
  }
  if (is.na(rows) ||
    rows < 1 ||
    !(query$hours %||% "main") %in% c("main", "every")) {
    return(
      standin_problem(
        400L, "parameter",
        "rows is a whole number from 1, hours is main or every."
      )
    )
  }
  quay_page(
    code, intervals[[word]], from, until, min(rows, settings$most), query,
    request, state, settings
  )
}

quay_page <- function(code, iso, from, until, rows, query, request, state,
                      settings) {
  newest <- settings$now() - 20 * 60
  bars <- quay_bars(
    code, time_interval(iso), from, min(until, newest),
    query$hours %||% "main", settings$calendar, state$cache, state$directory
  )
  bars <- rehearsal_bars(bars, code, rehearsal_day(settings))
  total <- if (is.null(bars)) 0L else nrow(bars)
  page <- if (total) bars[seq_len(min(rows, total)), ]
  body <- list(code = code, items = if (total) quay_items(page) else list())
  if (total > rows) {
    query$key <- NULL
    query$from <- format(round(bars$at[rows + 1] * 1000), scientific = FALSE)
    host <- request$HTTP_HOST %||% "127.0.0.1"
    body$more <- paste0(
      "http://", host, request$PATH_INFO, "?",
      paste(names(query), unlist(query), sep = "=", collapse = "&")
    )
  }
  standin_json(200L, body)
}

quay_items <- function(page) {
  data.frame(
    at = round(page$at * 1000),
    fst = page$fst,
    top = page$top,
    low = page$low,
    lst = page$lst,
    qty = page$qty,
    deals = page$deals
  )
}

# Seconds until the caller may call again, 0 when this request counts.
standin_turn <- function(state, name, most, window) {
  now <- as.numeric(Sys.time())
  requests <- state$requests[[name]]
  requests <- requests[requests > now - window]
  if (length(requests) >= most) {
    return(requests[1] + window - now)
  }
  state$requests[[name]] <- c(requests, now)
  0
}

standin_json <- function(status, body, headers = list()) {
  list(
    status = status,
    headers = c(list("Content-Type" = "application/json"), headers),
    body = as.character(jsonlite::toJSON(body, auto_unbox = TRUE, digits = 6))
  )
}

standin_problem <- function(status, code, text, headers = list()) {
  standin_json(status, list(problem = list(code = code, text = text)), headers)
}

# The exchange's calendar as it ships, made from its parts, because stand-ins
# may use the core only.
source_calendar_for_standin <- function() {
  calendar_make(
    list(
      calendar = "quay",
      title = "Ysel Quay Exchange",
      zone = "Europe/Riga",
      weekdays = weekday_names[1:5],
      sessions = list(
        early = "08:00-09:30", regular = "09:30-16:00", late = "16:00-18:00"
      ),
      closed = lapply(
        c("01-01", "03-20", "06-11", "12-24", "12-25", "12-26"),
        function(day) list(day = day)
      ),
      half_days = list(
        list(
          day = "08-29",
          sessions = list(early = "08:00-09:30", regular = "09:30-12:30")
        )
      )
    )
  )
}

#' Serve the stand-in services
#'
#' Serves the invented services of the demo on this machine, until `until`
#' seconds have passed or the process ends.
#'
#' @param port The port on 127.0.0.1; 0 uses a free one.
#' @param ready A function called with the port when the services answer.
#' @param until Seconds to serve.
#' @param most The largest page, in rows.
#' @param requests_a_minute The limit of the exchange, in requests per minute.
#' @param fault A fault to simulate. Faults of answers: `"status-408"`,
#'   `"status-425"`, `"status-429"`, `"status-500"`, `"status-502"`,
#'   `"status-503"`, `"slow"`, `"stall"`, `"cut"`, `"html"`, `"empty"`,
#'   `"error-200"`, `"gzip"`, `"schema"`, `"elsewhere"`, `"refused"`,
#'   `"rate-header"`. Faults of connections: `"closed"` without an answer,
#'   `"reset"`, `"broken"` within an answer, `"silent"`, `"trickle"` (three
#'   bytes per second), `"away"` (nothing listens for two seconds). URLs without
#'   a service: `"tls"` (the handshake fails), `"dns"` (the name is unknown).
#' @param every Every N-th answer or connection has the fault; with `"tls"` and
#'   `"dns"` all have it.
#' @param release The release of the statistics office's figures: 1 or 2.
#' @param availability Whether the statistics office has an availability query.
#' @param today A day (its morning) or an instant on which the services live, to
#'   rehearse: they give what was published by then, with a late value, a
#'   correction, a wrong price, an outage and a renamed field in each week. A
#'   client that lives on the same day has `VETUSTA_TODAY` in its environment.
#' @param speed How many times as fast their time runs from there.
#' @return Nothing.
#' @section Errors: `vetusta_error_service` for a port that is taken.
#' @export
#' @examples
#' services_serve(0, ready = function(port) message("serving"), until = 0)
services_serve <- function(port = 8471L, ready = function(port) NULL,
                           until = Inf, most = 240L, requests_a_minute = 90L,
                           fault = NULL, every = 3L, release = 2,
                           availability = TRUE, today = NULL, speed = 1) {
  clock <- standin_clock(today, speed)
  below <- !is.null(fault) && fault %in% standin_connection_faults
  app <- standin_app(
    most = most, requests_a_minute = requests_a_minute,
    fault = if (!below) fault, every = every, release = release,
    availability = availability, now = clock, rehearsal = !is.null(today)
  )
  service <- standin_listen(if (below) 0 else port, function(port) {
    httpuv::startServer("127.0.0.1", port, app, quiet = TRUE)
  })
  on.exit(service$open$stop())
  port <- if (below) port else service$port
  turn <- function(milliseconds) httpuv::service(milliseconds)
  if (below) {
    # of port 0 the system makes a free one
    front <- tryCatch(
      front_open(port, service$port, fault, every, away = 2),
      error = function(e) standin_port_taken(port)
    )
    on.exit(front_close(front), add = TRUE)
    port <- front_port(front)
    turn <- function(milliseconds) {
      front_turn(front, 5)
      httpuv::service(1)
    }
  }
  ready(port)
  end <- as.numeric(Sys.time()) + until
  while (as.numeric(Sys.time()) < end) {
    turn(min(500, max(1, (end - as.numeric(Sys.time())) * 1000)))
  }
  invisible()
}

# Opens a server on `port`; for 0 on a free one, or on the next free one when
# another program takes it meanwhile.
standin_listen <- function(port, open) {
  for (attempt in seq_len(if (port == 0) 20L else 1L)) {
    # five digits, so that a page with its own URL has the same size each time
    at <- port
    if (port == 0) at <- httpuv::randomPort(10000L, host = "127.0.0.1")
    opened <- tryCatch(open(at), error = function(e) NULL)
    if (!is.null(opened)) return(list(open = opened, port = at))
  }
  standin_port_taken(at)
}

standin_port_taken <- function(port) {
  vetusta_stop(
    "service",
    paste0("The port ", port, " is taken."),
    where = paste0("127.0.0.1:", port),
    todo = "give another with --port, or 0 for a free one"
  )
}
