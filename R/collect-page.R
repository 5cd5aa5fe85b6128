# One page: decoded, checked, and stored with its journal row and the place reached, in one transaction.

collect_good <- function(state, chain, response) {
  where <- paste0("source ", state$want$source$source, ", offer ", state$want$offer$name, ", ", chain$label, ", page ", chain$page)
  page <- tryCatch(page_read(state, chain, response, where), vetusta_error_payload = identity)
  if (inherits(page, "vetusta_error_payload")) {
    return(collect_spoilt(state, chain, response, page))
  }
  chain <- page_way(chain, page, state)
  if (!is.null(page$following) && window_passed(chain, page, state$want$offer)) page["following"] <- list(NULL)
  chain <- page_place(chain, page, state)
  last_wanted <- state$pages + 1 >= state$most_pages
  if (!is.null(page$following)) {
    if (last_wanted) state$unfinished <- state$unfinished + 1 else ask_following(state, chain, page)
  }
  state$store(state, chain, response, page)
  state$stumbled <- 0
  state$vain <- 0
  state$pages <- state$pages + 1
  if (last_wanted) state$stopped <- TRUE
}

# The next page is asked for before this one is stored: it travels while the archive works.
ask_following <- function(state, chain, page) {
  chain$seen <- c(chain$seen, chain$request$address)
  chain$request$address <- page$following
  chain$hashes <- c(chain$hashes, page$hash)
  chain$before <- chain$before + page$count
  chain$page <- chain$page + 1
  chain$attempt <- 1
  state$queue <- c(list(chain), state$queue)
  if (!state$one_by_one) collect_start(state)
  if (state$line$active > 0L) line_run(state$line, 0)
}

# A body that cannot be read may be whole the next time; after three tries it is this symbol's failure.
collect_spoilt <- function(state, chain, response, error) {
  # a service that says in its body to ask again later means what HTTP 503 means
  if (isTRUE(error$again)) {
    return(collect_again(state, chain, redact(error$what, state_secrets(state)), response))
  }
  if (chain$attempt < 3) {
    return(collect_again(state, chain, redact(error$what, state_secrets(state)), response[c("body", "status")]))
  }
  state$stumbled <- state$stumbled + 1
  if (state$stumbled > 4) stop_stumbling(state, redact(error$what, state_secrets(state)), "payload", error$todo)
  collect_failed(state, chain, response, "payload", paste0(error$what, " (", error$where, ")"), error$todo)
}

page_read <- function(state, chain, response, where) {
  want <- state$want
  if (!is.null(want$sdmx)) {
    return(observation_page(state, chain, response, where))
  }
  offer <- want$offer
  # HTTP 204: there is nothing, and no body to say so
  decoded <- if (identical(as.numeric(response$status), 204)) list(columns = empty_columns(offer), faults = no_faults, rows = 0L) else decode_body(offer,
    response$body, want$source, chain$known, page_members(offer), where)
  rows <- list_frame(decoded$columns)
  if (is.null(rows$symbol) && length(chain$symbols) == 1) rows$symbol <- rep(chain$symbols, decoded$rows)
  if (want$shape == "bars") rows <- complete_bars(rows, state$calendar, want$interval, want$source$zone, offer$bar_time)
  page <- list(members = page_told(offer, decoded$members, response$headers), headers = response$headers, rows = decoded$items %||% decoded$rows, number = chain$page,
    before = chain$before, last = decoded$last, newest = edge_time(rows$time %||% rows$period, max), oldest = edge_time(rows$time %||% rows$period, min))
  hash <- page_hash(decoded)
  repeated <- length(hash) > 0 && hash %in% chain$hashes
  bounded <- !is.null(member_number(page$members$total)) || !is.null(member_number(page$members$pages))
  list(
    rows = rows, count = page$rows, hash = hash, faults = page_faults(rows, decoded$faults, offer, want$shape),
    notes = c(if (repeated) "a page before it came again", total_note(page), if (answer_is_full(offer, page)) "as many rows as one answer gives: some may be missing"),
    full = answer_is_full(offer, page),
    # a service whose pages have no bound of their own and come again has no more
    following = if (!repeated || bounded) following_address(want$source, chain, page_rule(offer, want$source$zone)(chain$request$address, page), where, by = offer$next_page$by)
  )
}

# An answer without pages that is as long as answers can be.
answer_is_full <- function(offer, page) is.null(offer$job) && (offer$next_page$by %||% "none") == "none" && !is.null(offer$most) && page$rows >= offer$most

# What tells a page from others: how many rows it has, and its first and last ones.
page_hash <- function(decoded) {
  ends <- unique(c(seq_len(min(3, decoded$rows)), seq(max(1, decoded$rows - 2), length.out = min(3, decoded$rows))))
  if (decoded$rows > 0) rlang::hash(c(decoded$rows, lapply(decoded$columns, `[`, ends)))
}

# The newest or the oldest time of a page, whatever its rows are.
edge_time <- function(time, edge) {
  time <- if (inherits(time, "POSIXct")) time[is.finite(time)] else if (inherits(time, "Date")) utc(as.numeric(time[!is.na(time)]) * 86400)
  if (length(time)) edge(time)
}

# A total that says more than came, although the pages are at their end.
total_note <- function(page) {
  total <- member_number(page$members$total)
  if (!is.null(total) && page$rows == 0 && page$before < total) paste0("the total says ", number_text(total), " rows, ", number_text(page$before), " came")
}

complete_bars <- function(rows, calendar, interval, zone = "UTC", bar_time = NULL) {
  # as plain columns: a frame's own assignment takes longer than the work
  n <- nrow(rows)
  rows <- as.list(rows)
  if (identical(bar_time, "end") && n && inherits(rows$time, "POSIXct")) rows$time <- shift_instant(rows$time, interval, -1, zone)
  # a bar of a day is told by its day: its time is the opening of its first regular session
  if (!is_intraday(interval) && inherits(rows$time, "POSIXct")) rows$time <- midnight_days(rows$time, zone, calendar)
  if (inherits(rows$time, "Date")) rows$time <- bar_days(rows$time, zone, calendar)
  for (name in c("open", "high", "low", "close", "volume")) rows[[name]] <- rows[[name]] %||% rep(NA_real_, n)
  if (is.null(rows$session)) {
    rows$session <- if (!is.null(calendar) && is_intraday(interval)) session_of(rows$time, calendar) else rep(NA_character_, n)
  }
  rows$side <- rows$side %||% rep(NA_character_, n)
  rows$status <- rows$status %||% rep("observed", n)
  list_frame(rows)
}

# Bars of days and longer that are all told by an instant at midnight, local or of UTC, mean the day; unless days open just then.
midnight_days <- function(time, zone, calendar) {
  known <- time[is.finite(time)]
  if (!length(known) || (!is.null(calendar) && all(known %in% sessions_around(calendar, min(known), max(known))$open))) {
    return(time)
  }
  if (all(as.numeric(known) %% 86400 == 0)) as.Date(time, tz = "UTC")
  else if (all(as.numeric(known) == as.numeric(time_local(local_day(known, zone), 0, zone)))) local_day(time, zone)
  else time
}

bar_days <- function(day, zone, calendar) {
  time <- utc(rep(NA_real_, length(day)))
  known <- !is.na(day)
  time[known] <- day_times(day[known], zone, calendar)
  time
}

# Faults of decoding and of the bars themselves; a row is set aside once, with its first fault.
page_faults <- function(rows, decoded, offer, shape) {
  judged <- if (shape == "bars") bars_faults(rows) else no_bars_faults
  if (!nrow(judged) && !nrow(decoded)) {
    return(no_page_faults)
  }
  judged <- judged[!judged$row %in% decoded$row, ]
  row <- c(decoded$row, judged$row)
  data.frame(
    row = row, symbol = rows$symbol[row] %||% rep(NA_character_, length(row)), time = if (is.null(rows$time)) rep(NA_real_, length(row)) else as.numeric(rows$time)[row],
    place = c(decoded$pointer, sprintf("%s/%d", offer$rows %||% "", judged$row - 1L)),
    fault = c(decoded$fault, judged$fault), detail = c(decoded$detail, judged$detail)
  )
}

no_page_faults <- data.frame(row = integer(), symbol = character(), time = numeric(), place = character(), fault = character(), detail = character())

following_address <- function(source, chain, value, where, by = NULL) {
  if (is.null(value)) {
    return(NULL)
  }
  address <- absolute_address(value, chain$request$address)
  if (is.na(address)) {
    stop_payload(paste0("The next page's address cannot be read: \"", value, "\"."), where, "look at next_page: in the card")
  }
  if (!may_follow(address, source$address, source$elsewhere)) {
    stop_payload(paste0("The next page's address leads to another place, ", origin_of(address), "."), where,
      "it is not followed, because the key must not go there; where it is right, say elsewhere: follow in the card, and it is followed without the key")
  }
  address <- without_parameter(address, source$access)
  if (address %in% c(chain$seen, chain$request$address)) {
    if (identical(by, "time")) {
      return(NULL)
    }
    stop_payload("The next page's address was asked for already: the pages go round.", where, "tell the service's makers; what came so far is kept")
  }
  if (chain$page >= page_bound) stop_payload(paste0("There are more than ", format(page_bound, big.mark = ","), " pages."), where, "ask for a shorter window")
  address
}

page_bound <- 100000

# A credential that the service repeats in its next address is taken out: it is put on when the call is sent.
without_parameter <- function(address, access) {
  if (!identical(access$by, "query")) {
    return(address)
  }
  sub("[?]$", "", sub(paste0("([?&])", encode_plain(access$name), "=[^&#]*&?"), "\\1", address)) |> sub(pattern = "&$", replacement = "")
}

page_store <- function(state, chain, response, page) {
  archive <- state$archive
  in_transaction(archive, function() {
    good <- if (nrow(page$faults)) page$rows[-page$faults$row, , drop = FALSE] else page$rows
    journal <- journal_entry(state, chain, response, "stored", rows = nrow(good), message = if (length(page$notes)) paste(page$notes, collapse = "; ") else NA)
    if (!is.null(page$series)) store_observations(state, chain, page, good, journal)
    else if (state$want$shape == "bars") store_bars(state, chain, good, journal) else store_records(state, good, journal)
    archive_put_findings(archive, page$faults, journal)
    note_findings(archive, page$notes, chain, journal)
    if (!chain$windowed && (!is.null(page$following) || chain$page > 1 || chain$resumed)) archive_reach(archive, state$want, chain, page$following, chain$before + page$count)
    if (state$keep_raw && length(response$body)) archive_put_raw(archive, journal, without_secrets(response$body, state_secrets(state)), chain, state$want)
    if (is.null(page$following)) claim_ended(state, chain)
  })
  state$aside <- state$aside + length(unique(page$faults$row))
}

note_findings <- function(archive, notes, chain, journal) {
  if (length(notes)) {
    archive_put_findings(archive, data.frame(symbol = rep(chain$label, length(notes)), time = NA_real_, place = paste("page", chain$page), fault = notes, detail = NA_character_), journal)
  }
}

# The rows of a page may be of several symbols and sides; each is a series.
store_bars <- function(state, chain, good, journal) {
  side <- if (all(is.na(good$side))) rep("", nrow(good)) else ifelse(is.na(good$side), "", good$side)
  one <- length(unique(good$symbol)) <= 1 && length(unique(side)) <= 1
  groups <- if (one) list(seq_len(nrow(good))) else split(seq_len(nrow(good)), list(good$symbol, side), drop = TRUE, sep = "\r")
  for (rows in groups) {
    part <- if (one) good else good[rows, , drop = FALSE]
    symbol <- if (nrow(part)) part$symbol[1] else chain$symbols[1]
    if (nrow(part)) state$came[[symbol]] <- TRUE
    series <- state_series(state, symbol, if (nrow(part)) side[rows[1]] else "")
    part$symbol <- NULL
    part$side <- rep(NA_character_, nrow(part))
    counts <- archive_put_bars(state$archive, series, part, journal)
    for (name in names(counts)) state[[name]] <- state[[name]] + counts[[name]]
    state$touched <- union(state$touched, series)
  }
  if (isTRUE(chain$last)) state$empty <- c(state$empty, Filter(function(name) is.null(state$came[[name]]), chain$symbols))
  cover_bars(state, chain, good)
}

state_series <- function(state, symbol, side = "") {
  key <- paste(symbol, side)
  if (is.null(state$series[[key]])) state$series[[key]] <- archive_series_id(state$archive, state$want$source$source, symbol, state$want$interval$iso, side)
  state$series[[key]]
}

# What is covered is told of the symbols asked for, also where one has no rows. A bar that has not ended is not covered: it is
# asked for again the next time.
cover_bars <- function(state, chain, good) {
  if (is.null(chain$from)) {
    return(invisible())
  }
  for (symbol in chain$symbols) {
    cover <- if (length(chain$symbols) == 1) chain$cover else if (chain$last) c(chain$from, chain$to)
    open <- if (any(good$status == "provisional")) as.numeric(good$time)[good$symbol == symbol & good$status == "provisional"]
    if (length(cover) && length(open)) cover[2] <- min(cover[2], open)
    if (length(cover) && cover[2] > cover[1]) archive_cover(state$archive, state_series(state, symbol), state$want$session, cover[1], cover[2])
  }
}

store_records <- function(state, good, journal) {
  counts <- archive_put_records(state$archive, state$want$source$source, state$want$offer$name, state$want$shape, good, journal)
  for (name in names(counts)) state[[name]] <- state[[name]] + counts[[name]]
}
