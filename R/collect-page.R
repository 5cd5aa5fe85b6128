# One page: decoded, checked, and stored with its journal row and the place reached, in one transaction.

collect_good <- function(state, chain, response) {
  where <- paste0("source ", state$want$source$source, ", offer ", state$want$offer$name, ", ", chain$symbol, ", page ", chain$page)
  page <- tryCatch(page_read(state, chain, response, where), vetusta_error_payload = identity)
  if (inherits(page, "vetusta_error_payload")) {
    return(collect_spoilt(state, chain, response, page))
  }
  chain <- page_place(chain, page)
  if (!is.null(page$following)) ask_following(state, chain, page$following)
  in_transaction(state$archive, function() page_store(state, chain, response, page))
  state$pages <- state$pages + 1
}

# The next page is asked for before this one is stored: it travels while the archive works.
ask_following <- function(state, chain, address) {
  chain$seen <- c(chain$seen, chain$request$address)
  chain$request$address <- address
  chain$page <- chain$page + 1
  chain$attempt <- 1
  state$queue <- c(list(chain), state$queue)
  collect_start(state)
  if (state$line$active > 0L) line_run(state$line, 0)
}

# A body that cannot be read may be whole the next time; after three tries it is this symbol's failure.
collect_spoilt <- function(state, chain, response, error) {
  if (chain$attempt < 3) {
    return(collect_again(state, chain, error$what, response["body"]))
  }
  collect_failed(state, chain, response, "payload", paste0(error$what, " (", error$where, ")"), error$todo)
}

page_read <- function(state, chain, response, where) {
  want <- state$want
  offer <- want$offer
  next_at <- if (identical(offer$next_page$by, "address")) offer$next_page$at
  json <- decode_json(response$body, offer$rows, next_at, where)
  decoded <- decode_rows(offer, json$rows, want$source$zone, where)
  rows <- list_frame(c(list(symbol = rep(chain$symbol, decoded$rows)), decoded$columns))
  rows <- complete_bars(rows, state$calendar, want$interval)
  list(rows = rows, faults = page_faults(rows, decoded$faults, offer), following = following_address(want$source, chain, json$next_value, where))
}

complete_bars <- function(rows, calendar, interval) {
  n <- nrow(rows)
  for (name in c("open", "high", "low", "close", "volume")) rows[[name]] <- rows[[name]] %||% rep(NA_real_, n)
  if (is.null(rows$session)) {
    rows$session <- if (!is.null(calendar) && is_intraday(interval)) session_of(rows$time, calendar) else rep(NA_character_, n)
  }
  rows$side <- rows$side %||% rep(NA_character_, n)
  rows$status <- rows$status %||% rep("observed", n)
  rows
}

# Faults of decoding and of the bars themselves; a row is set aside once, with its first fault.
page_faults <- function(rows, decoded, offer) {
  judged <- bars_faults(rows)
  if (!nrow(judged) && !nrow(decoded)) {
    return(no_page_faults)
  }
  judged <- judged[!judged$row %in% decoded$row, ]
  row <- c(decoded$row, judged$row)
  data.frame(
    row = row, symbol = rows$symbol[row], time = as.numeric(rows$time)[row], place = c(decoded$pointer, sprintf("%s/%d", offer$rows, judged$row - 1L)),
    fault = c(decoded$fault, judged$fault), detail = c(decoded$detail, judged$detail)
  )
}

no_page_faults <- data.frame(row = integer(), symbol = character(), time = numeric(), place = character(), fault = character(), detail = character())

following_address <- function(source, chain, value, where) {
  if (is.null(value) || (is.atomic(value) && (length(value) != 1 || is.na(value) || identical(value, "")))) {
    return(NULL)
  }
  address <- absolute_address(as.character(value), chain$request$address)
  if (is.na(address)) {
    stop_payload(paste0("The next page's address cannot be read: \"", value, "\"."), where, "look at next_page: in the card")
  }
  if (!same_origin(address, source$address)) {
    stop_payload(paste0("The next page's address leads to another place, ", origin_of(address), "."), where,
      "it is not followed, because the key would go there; look whether the card's address is right")
  }
  address <- without_parameter(address, source$access)
  if (address %in% c(chain$seen, chain$request$address)) {
    stop_payload("The next page's address was asked for already: the pages go round.", where, "tell the service's makers; what came so far is kept")
  }
  address
}

# A credential that the service repeats in its next address is taken out: it is put on when the call is sent.
without_parameter <- function(address, access) {
  if (!identical(access$by, "query")) {
    return(address)
  }
  sub("[?]$", "", sub(paste0("([?&])", encode_plain(access$name), "=[^&#]*&?"), "\\1", address)) |> sub(pattern = "&$", replacement = "")
}

# Which stretch this page covers. Pages run forward or backward in time; which, the first page shows by the end of the
# window that it lies at, and a later page that contradicts it ends the covering until the last page is in.
page_place <- function(chain, page) {
  time <- as.numeric(page$rows$time)
  time <- time[is.finite(time)]
  chain$cover <- NULL
  if (is.null(page$following)) {
    chain$cover <- c(chain$from, chain$to)
    return(chain)
  }
  if (!length(time)) {
    return(chain)
  }
  ends <- range(time)
  if (is.na(chain$direction)) chain$direction <- if (ends[1] - chain$from <= chain$to - ends[2]) "forward" else "backward"
  if (!is.null(chain$edge) && (if (chain$direction == "forward") ends[2] < chain$edge else ends[1] > chain$edge)) chain$direction <- "unknown"
  if (chain$direction == "forward") {
    chain$edge <- ends[2]
    chain$cover <- c(chain$from, min(ends[2] + 0.001, chain$to))
  } else if (chain$direction == "backward") {
    chain$edge <- ends[1]
    chain$cover <- c(max(ends[1], chain$from), chain$to)
  }
  chain
}

page_store <- function(state, chain, response, page) {
  archive <- state$archive
  good <- if (nrow(page$faults)) page$rows[-page$faults$row, , drop = FALSE] else page$rows
  journal <- journal_entry(state, chain, response, "stored", rows = nrow(good))
  series <- store_rows(state, chain, good, journal)
  archive_put_findings(archive, page$faults, journal, series)
  if (length(chain$cover) && chain$cover[2] > chain$cover[1]) archive_cover(archive, series, state$want$session, chain$cover[1], chain$cover[2])
  state$aside <- state$aside + nrow(page$faults)
}

store_rows <- function(state, chain, good, journal) {
  good$symbol <- NULL
  series <- state$series[[chain$symbol]] %||% archive_series_id(state$archive, state$want$source$source, chain$symbol, state$want$interval$iso)
  state$series[[chain$symbol]] <- series
  counts <- archive_put_bars(state$archive, series, good, journal)
  for (name in names(counts)) state[[name]] <- state[[name]] + counts[[name]]
  state$touched <- union(state$touched, series)
  series
}
