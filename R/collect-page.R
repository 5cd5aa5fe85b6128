# One page: decoded, checked, and stored with its journal row and the place reached, in one transaction.

collect_good <- function(state, chain, response) {
  where <- paste0("source ", state$want$source$source, ", offer ", state$want$offer$name, ", ", chain$label, ", page ", chain$page)
  page <- tryCatch(page_read(state, chain, response, where), vetusta_error_payload = identity)
  if (inherits(page, "vetusta_error_payload")) {
    return(collect_spoilt(state, chain, response, page))
  }
  # HTTP 202 without rows: what was asked for is not ready yet
  if (identical(as.numeric(response$status), 202) && page$count == 0) {
    return(collect_again(state, chain, "HTTP 202: not ready yet", response))
  }
  chain <- page_way(chain, page, state)
  if (!is.null(page$following) && (window_passed(chain, page, state$want$offer) || (page$probing && window_full(chain, page, state)))) page["following"] <- list(NULL)
  chain <- page_place(chain, page, state)
  last_wanted <- state$pages + 1 >= state$most_pages
  if (!is.null(page$following)) {
    if (last_wanted) state$unfinished <- state$unfinished + 1 else ask_following(state, chain, page)
  }
  state$store(state, chain, response, page)
  state$stumbled <- 0
  state$vain <- 0
  state$pages <- state$pages + 1
  # what came is stored, and what follows cannot be asked for
  if (!is.null(page$halt)) collect_failed(state, chain, response, "payload", paste0(page$halt$what, " (", page$halt$where, ")"), page$halt$todo)
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
  # one that says what is wrong with the call says the same again
  if (chain$attempt < 3 && !identical(error$again, FALSE)) {
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
  # HTTP 204, and 202 without a body: there is nothing, and nothing to say so
  bare <- identical(as.numeric(response$status), 204) || (identical(as.numeric(response$status), 202) && !length(response$body))
  decoded <- if (bare) list(columns = empty_columns(offer), faults = no_faults, rows = 0L) else decode_body(offer,
    response$body, want$source, chain$known, page_members(offer), where)
  tidy <- tidy_page(want, state$calendar, chain$symbols, decoded)
  rows <- tidy$rows
  page <- list(members = page_told(offer, decoded$members, response$headers), headers = response$headers, rows = decoded$items %||% decoded$rows, number = chain$page,
    before = chain$before, last = decoded$last, newest = edge_time(rows$time %||% rows$period, max), oldest = edge_time(rows$time %||% rows$period, min), largest = state$largest)
  state$largest <- max(state$largest, page$rows)
  hash <- page_hash(decoded)
  repeated <- length(hash) > 0 && hash %in% chain$hashes
  bounded <- !is.null(member_number(page$members$total)) || !is.null(member_number(page$members$pages))
  # a service whose pages have no bound of their own and come again has no more
  following <- if (!repeated || bounded) following_page(want$source, chain, page_rule(offer, want$source$zone)(chain$request$address, page), where, by = offer$next_page$by)
  short <- if (is.null(following$address)) total_note(page)
  full <- answer_is_full(offer, page)
  list(
    rows = rows, count = page$rows, hash = hash, faults = tidy$faults,
    notes = c(if (repeated) "a page before it came again", short, if (full) "as many rows as one answer gives: some may be missing"),
    full = full || !is.null(short) || !is.null(following$halt), following = following$address, halt = following$halt,
    probing = !bounded && is.null(page$members$more) && page$rows < (offer$most %||% Inf)
  )
}

# A decoded body as rows of the want's shape, with what is wrong in them: the one way for pages, pieces of exports, and raw pages that are read again.
tidy_page <- function(want, calendar, symbols, decoded) {
  offer <- want$offer
  rows <- list_frame(decoded$columns)
  if (is.null(rows$symbol) && length(symbols) == 1) rows$symbol <- rep(symbols, decoded$rows)
  # where the clock of rows runs back, the second pass of an hour that comes twice is meant
  if (inherits(rows$time, "POSIXct") && decoded$rows && clock_is_local(offer)) {
    rows$time <- second_passes(rows$time, want$source$zone, if (!is.null(rows$symbol)) paste(rows$symbol, rows[["side"]]))
  }
  if (want$shape == "bars") rows <- complete_bars(rows, calendar, want$interval, want$source$zone, offer$bar_time)
  list(rows = rows, faults = page_faults(rows, decoded$faults, offer, want$shape))
}

clock_is_local <- function(offer) {
  rule <- column_rule(offer$columns$time %||% list(need = "optional"))
  identical(rule$as, "local") || !is.null(rule$written)
}

# A page of nothing, which ends a call.
empty_page <- function(state, chain) {
  tidy <- if (is.null(state$want$sdmx)) tidy_page(state$want, state$calendar, chain$symbols, list(columns = empty_columns(state$want$offer), rows = 0L, faults = no_faults))
  list(rows = tidy$rows, count = 0, hash = NULL, faults = no_page_faults, notes = NULL, full = FALSE, following = NULL, probing = FALSE)
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
  if (!is.null(total) && page$before + page$rows < total) paste0("the total says ", number_text(total), " rows, ", number_text(page$before + page$rows), " came")
}

complete_bars <- function(rows, calendar, interval, zone = "UTC", bar_time = NULL) {
  # as plain columns: a frame's own assignment takes longer than the work
  n <- nrow(rows)
  rows <- as.list(rows)
  if (identical(bar_time, "end") && n && inherits(rows$time, "POSIXct")) rows$time <- bar_starts(rows$time, interval, zone)
  # a bar of a day is told by its day, wherever in it the source stamps it: its time is the opening of its first regular session
  if (!is_intraday(interval) && inherits(rows$time, "POSIXct")) rows$time <- if (is.null(calendar)) midnight_days(rows$time, zone, calendar) else trading_days(rows$time, calendar)
  if (inherits(rows$time, "Date")) rows$time <- bar_days(rows$time, zone, calendar)
  for (name in c("open", "high", "low", "close", "volume")) rows[[name]] <- rows[[name]] %||% rep(NA_real_, n)
  if (is.null(rows$session)) {
    rows$session <- if (!is.null(calendar) && is_intraday(interval)) session_of(rows$time, calendar) else rep(NA_character_, n)
  }
  rows$side <- rows$side %||% rep(NA_character_, n)
  rows$status <- rows$status %||% rep("observed", n)
  list_frame(rows)
}

# Where bars begin that are named by their ends. A day that ends at its session's close and not at midnight is the day of its last second.
bar_starts <- function(time, interval, zone) {
  known <- as.numeric(time[is.finite(time)])
  midnights <- all(known %% 86400 == 0) || all(known == as.numeric(time_local(local_day(utc(known), zone), 0, zone)))
  if (identical(interval$iso, "P1D") && !midnights) time - 1 else shift_instant(time, interval, -1, zone)
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
  judged <- if (shape == "bars") rbind(bars_faults(rows), doubled_bars(rows)) else no_bars_faults
  if (!nrow(judged) && !nrow(decoded)) {
    return(no_page_faults)
  }
  judged <- judged[!judged$row %in% decoded$row & !duplicated(judged$row), ]
  row <- c(decoded$row, judged$row)
  data.frame(
    row = row, symbol = rows$symbol[row] %||% rep(NA_character_, length(row)), time = if (is.null(rows$time)) rep(NA_real_, length(row)) else as.numeric(rows$time)[row],
    place = c(decoded$pointer, sprintf("%s/%d", offer$rows %||% "", judged$row - 1L)),
    fault = c(decoded$fault, judged$fault), detail = c(decoded$detail, judged$detail)
  )
}

# Of two bars of one time that differ the later counts, and the earlier is set aside.
doubled_bars <- function(rows) {
  n <- nrow(rows)
  if (n < 2 || !is.unsorted(as.numeric(rows$time), strictly = TRUE)) {
    return(no_bars_faults)
  }
  key <- paste(rows$symbol, rows$side, as.numeric(rows$time), sep = "\r")
  twice <- which(duplicated(key, fromLast = TRUE) & !is.na(rows$time))
  if (!length(twice)) {
    return(no_bars_faults)
  }
  last <- n + 1L - match(key[twice], rev(key))
  values <- intersect(c("open", "high", "low", "close", "volume"), names(rows))
  differ <- rows_differ(rows[twice, values, drop = FALSE], rows[last, values, drop = FALSE])
  row <- twice[differ]
  data.frame(row = row, symbol = rows$symbol[row], time = rows$time[row], fault = rep("another row of this time differs", length(row)),
    detail = sprintf("close %s, and %s in a row after it", rows$close[row], rows$close[last[differ]]))
}

no_page_faults <- data.frame(row = integer(), symbol = character(), time = numeric(), place = character(), fault = character(), detail = character())

# Where the next page is: `address`, or nothing where this one is the last; `halt`, an error, where it cannot be asked for, though this page is good.
following_page <- function(source, chain, value, where, by = NULL) {
  if (is.null(value)) {
    return(NULL)
  }
  halt <- function(what, todo) list(halt = vetusta_error("payload", what, where, todo))
  address <- absolute_address(value, chain$request$address)
  if (is.na(address)) {
    return(halt(paste0("The next page's address cannot be read: \"", value, "\"."), "look at next_page: in the card"))
  }
  if (!may_follow(address, source$address, source$elsewhere)) {
    return(halt(paste0("The next page's address leads to another place, ", origin_of(address), "."),
      "it is not followed, because the key must not go there; where it is right, say elsewhere: follow in the card, and it is followed without the key"))
  }
  address <- without_parameter(address, source$access)
  if (!same_origin(address, source$address) && has_secret(address, source_secrets(source))) {
    return(halt(paste0("The next page's address leads to another place, ", origin_of(address), ", with a secret in it."), "tell the service's makers: a key must not go elsewhere"))
  }
  # a last page that names itself is the last
  if (address == chain$request$address) {
    return(NULL)
  }
  if (address %in% chain$seen) {
    return(if (!identical(by, "time")) halt("The next page's address was asked for already: the pages go round.", "tell the service's makers; what came so far is kept"))
  }
  if (chain$page >= page_bound) {
    return(halt(paste0("There are more than ", format(page_bound, big.mark = ","), " pages."), "ask for a shorter window"))
  }
  list(address = address)
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
  source <- state$want$source$source
  offer <- state$want$offer$name
  in_transaction(archive, function() {
    good <- if (nrow(page$faults)) page$rows[-page$faults$row, , drop = FALSE] else page$rows
    journal <- journal_entry(state, chain, response, if (response$status >= 400) "end" else "stored", rows = nrow(good), message = if (length(page$notes)) paste(page$notes, collapse = "; ") else NA)
    if (!is.null(page$series)) store_observations(state, chain, page, good, journal)
    else if (state$want$shape == "bars") store_bars(state, chain, good, journal) else store_records(state, good, journal)
    page$faults$detail <- redact(page$faults$detail, state_secrets(state))
    archive_put_findings(archive, page$faults, journal)
    note_findings(archive, page$notes, chain, journal)
    if (!chain$windowed && (!is.null(page$following) || chain$page > 1 || chain$resumed)) {
      archive_reach(archive, source, offer, list(start = chain$start, key = chain$key, from = chain$from %||% NA, to = chain$to %||% NA, page = chain$page + 1, before = chain$before + page$count),
        page$following)
    }
    if (is.null(page$following) && !isTRUE(page$full)) call_held(state, chain, source, offer)
    if (state$keep_raw && length(response$body)) archive_put_raw(archive, journal, redact_bytes(response$body, state_secrets(state)), chain, state$want)
    if (is.null(page$following) && is.null(page$halt)) claim_ended(state, chain)
  })
  state$aside <- state$aside + length(unique(page$faults$row))
}

# A call of rows that was answered whole: its window is held, up to where values may still come; without a window it is done for this round.
call_held <- function(state, chain, source, offer) {
  if (state$want$shape == "bars") {
    return(invisible())
  }
  if (is.null(chain$from) || is.null(chain$to) || !is.null(state$want$sdmx)) {
    return(archive_asked_note(state$archive, source, offer, chain$start))
  }
  until <- min(chain$to, max(chain$newest %||% -Inf, chain$asked - settled_days * 86400))
  if (until > chain$from) archive_cover_rows(state$archive, source, offer, chain$key, chain$from, until)
}

# For so long after its time a value that is missing may still be published.
settled_days <- 14

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
