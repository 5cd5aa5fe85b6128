# The file of an export, stored in pieces: memory does not grow with its length, and what it covers is noted when all of it is in.

job_store <- function(state, chain, offer, file) {
  where <- paste0("source ", state$want$source$source, ", offer ", offer$name, ", the export of ", chain$label)
  file <- plain_file(file, offer$job$unpack %||% "none", where)
  open <- NULL
  format <- offer$format %||% "json"
  keep <- function(decoded) {
    open <<- rbind(open, job_piece(state, chain, offer, decoded))
    chain$page <<- chain$page + 1
  }
  # what the file repeats of a secret is in no row either
  clean <- function(lines) {
    secrets <- Filter(function(secret) nchar(secret) >= 6 && grepl("[^0-9.,]", secret), state_secrets(state))
    if (length(secrets) && any(vapply(unlist(lapply(secrets, secret_forms)), function(form) any(grepl(form, lines, fixed = TRUE, useBytes = TRUE)), TRUE))) redact(lines, secrets) else lines
  }
  if (format %in% c("csv", "tsv")) job_table(offer, file, where, clean, function(rows) keep(decode_rows(offer, rows, state$want$source$zone, where, chain$known)))
  else if (format == "json-lines") job_lines(offer, file, clean, function(body) keep(decode_body(offer, body, state$want$source, chain$known, where = where)))
  else {
    if (file.size(file) > wire_bounds$body) stop_payload("The export is too large to be read at once.", where, "ask for a shorter window, or for lines of JSON or a table where the service has them")
    keep(decode_body(offer, without_secrets(readBin(file, "raw", file.size(file)), state_secrets(state)), state$want$source, chain$known, where = where))
  }
  chain$cover <- c(chain$from, chain$to)
  chain$last <- TRUE
  in_transaction(state$archive, function() {
    claim_ended(state, chain)
    call_held(state, chain, state$want$source$source, offer$name)
    if (state$want$shape != "bars") return(invisible())
    state$empty <- c(state$empty, Filter(function(name) is.null(state$came[[name]]), chain$symbols))
    cover_bars(state, chain, open %||% list())
  })
  TRUE
}

# The content of the file. What a service has packed once more on the way (Content-Encoding) is unpacked too.
plain_file <- function(file, how, where) {
  if (how == "zip" && !is_gzip(readBin(file, "raw", 3))) {
    return(unpack_file(file, paste0(file, ".zip.plain"), "zip", where))
  }
  times <- 0
  while (is_gzip(readBin(file, "raw", 3)) && times < 2) {
    file <- unpack_file(file, paste0(file, ".plain"), "gzip", where)
    times <- times + 1
  }
  if (how == "zip") unpack_file(file, paste0(file, ".zip.plain"), "zip", where) else file
}

job_reader <- function(file) {
  connection <- file(file, "r")
  list(read = function(n) suppressWarnings(readLines(connection, n, warn = FALSE)), close = function() close(connection))
}

# A table, some ten thousand lines at a time, each piece with the names of the columns before it.
job_table <- function(offer, file, where, clean, keep) {
  lines_of <- job_reader(file)
  on.exit(lines_of$close())
  table <- offer$table
  recode <- function(lines) if (is.null(table$encoding)) lines else recoded(lines, table$encoding, where)
  if (!is.null(table$skip)) lines_of$read(table$skip)
  # what comes before the names and is none of them
  repeat {
    first <- recode(lines_of$read(1))
    # without a line of names nothing at all is an export without rows
    if (!length(first) && isFALSE(table$names)) return(invisible())
    if (!length(first)) stop_payload("The export is empty.", where, "look at the want")
    bytes <- charToRaw(first)
    if (identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) first <- rawToChar(bytes[-(1:3)])
    if (nzchar(trimws(first)) && (is.null(table$remark) || !startsWith(trimws(first, "left"), table$remark))) break
  }
  stop_on_other_kind(first, where)
  rest <- table[setdiff(names(table), c("skip", "encoding"))]
  header <- if (table$names %||% TRUE) first
  ahead <- if (is.null(header)) first
  repeat {
    lines <- clean(c(ahead, whole_lines(lines_of, offer$job$piece %||% 20000)))
    ahead <- NULL
    if (!length(lines)) break
    keep(read_text_table(text = paste0(paste(c(header, plain_lines(recode(lines), rest)), collapse = "\n"), "\n"), format = offer$format, where = where, table = rest))
  }
}

# Lines whose quotation marks are closed: a line break within quotes ends no row.
whole_lines <- function(lines_of, size) {
  lines <- lines_of$read(size)
  marks <- function(text) sum(nchar(text, "bytes") - nchar(gsub("\"", "", text, fixed = TRUE, useBytes = TRUE), "bytes"))
  while (length(lines) && marks(lines) %% 2 == 1) {
    more <- lines_of$read(1)
    if (!length(more)) break
    lines <- c(lines, more)
  }
  lines
}

job_lines <- function(offer, file, clean, keep) {
  lines_of <- job_reader(file)
  on.exit(lines_of$close())
  while (length(lines <- lines_of$read(offer$job$piece %||% 20000))) {
    lines <- clean(lines[nzchar(trimws(lines))])
    if (length(lines)) keep(charToRaw(paste(lines, collapse = "\n")))
  }
}

# Stores a piece; gives its bars that have not ended, which are not covered.
job_piece <- function(state, chain, offer, decoded) {
  tidy <- tidy_page(state$want, state$calendar, chain$symbols, decoded)
  frame <- tidy$rows
  bars <- state$want$shape == "bars"
  chain$asked <- as.numeric(Sys.time())
  chain$cover <- NULL
  chain$last <- FALSE
  page <- list(rows = frame, count = decoded$rows, faults = tidy$faults, notes = NULL, following = "piece")
  chain$windowed <- TRUE
  state$store(state, chain, list(status = 200L, body = raw()), page)
  state$pages <- state$pages + 1
  if (bars) as.data.frame(frame[frame$status == "provisional", c("symbol", "time", "status")])
}
