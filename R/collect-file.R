# The file of an export, stored in parts: memory does not grow with its length,
# and its coverage is noted when all of it is stored.

job_store <- function(job, file) {
  run <- job$run
  dataset <- run$query$dataset
  where <- paste0(
    "source ", run$source$source, ", dataset ", dataset$name,
    ", the export of ", job$chain$label
  )
  files <- plain_files(
    file, dataset$job$unpack %||% "none", dataset$table$files, where
  )
  open <- NULL
  came <- list(
    hash = digest::digest(file, algo = "xxhash64", file = TRUE),
    bytes = file.size(file)
  )
  keep <- function(decoded) {
    decoded$hash <- came$hash
    open <<- rbind(open, job_piece(job, decoded, came$bytes))
    # of the parts of a file, the first has its size
    came$bytes <<- NA
    job$chain$page <- job$chain$page + 1
  }
  clean <- function(lines) without_secret_words(lines, run$secrets())
  read <- job_readers[[dataset$format %||% "json"]] %||% job_whole
  for (i in seq_along(files)) {
    job$chain$known$file <- names(files)[i]
    job$passed <- 0
    read(job, files[[i]], where, clean, keep)
  }
  chain <- job$chain
  against <- proof_against(chain$proof, Inf)
  if (length(against)) {
    claim_over(run, chain, notes = incomplete_notes(run, chain, against))
    job$tally <- collect_incomplete(run, job$tally, chain, against)
    return(invisible())
  }
  chain$cover <- c(chain$from, chain$to)
  chain$last <- TRUE
  good <- open %||%
    data.frame(symbol = character(), time = numeric(), status = character())
  claim_over(
    run,
    chain,
    covered = query_covered(run$query, chain, good, whole = TRUE),
    notes = c(
      query_notes(run$query, chain),
      incomplete_notes(run, chain, NULL, chain$rejected %||% 0)
    )
  )
  job$tally$empty <- c(
    job$tally$empty,
    unique(tally_without(job$tally, query_without(run$query, chain)))
  )
}

# Secrets that the file repeats are removed from its rows.
without_secret_words <- function(lines, secrets) {
  for (form in attr(secrets, "body")) {
    lines <- gsub(form, "<secret>", lines, fixed = TRUE, useBytes = TRUE)
  }
  lines
}

# The reader of each file format.
job_readers <- list(
  csv = function(...) job_table(...),
  tsv = function(...) job_table(...),
  "json-lines" = function(...) job_lines(...)
)

job_whole <- function(job, file, where, clean, keep) {
  if (file.size(file) > wire_bounds$body) {
    stop_payload(
      "The export is too large to be read at once.", where,
      "use a shorter window, or lines of JSON or CSV where the service has them"
    )
  }
  body <- without_secrets(
    readBin(file, "raw", file.size(file)), job$run$secrets()
  )
  keep(job_placed(job, job_decoded(job, body, where)))
}

job_decoded <- function(job, body, where) {
  decode_body(
    job$run$query$dataset, body, job$run$source, job$chain$known,
    where = where
  )
}

# The contents of the file, decompressed if the service compressed it
# (Content-Encoding): a file, or those of a zip file that the card wants, under
# their names.
plain_files <- function(file, how, pattern, where) {
  times <- 0
  while (is_gzip(readBin(file, "raw", 3)) && times < 2) {
    file <- unpack_gzip(file, paste0(file, ".plain"), where)
    times <- times + 1
  }
  if (how != "zip") {
    return(utf8_file(file, paste0(file, ".utf8")))
  }
  names <- zip_names(file, pattern, where)
  files <- vapply(
    seq_along(names),
    function(i) {
      into <- paste0(file, ".", i, ".plain")
      utf8_file(
        unpack_entry(file, names[i], into, where), paste0(into, ".utf8")
      )
    },
    ""
  )
  stats::setNames(files, file_stem(names))
}

# Reads lines, and counts them.
job_reader <- function(file) {
  connection <- file(file, "r")
  passed <- 0
  list(
    read = function(n) {
      lines <- suppressWarnings(readLines(connection, n, warn = FALSE))
      passed <<- passed + length(lines)
      lines
    },
    passed = function() passed,
    close = function() close(connection)
  )
}

# Reads a table some ten thousand lines at a time, each part with the header
# line.
job_table <- function(job, file, where, clean, keep) {
  dataset <- job$run$query$dataset
  lines_of <- job_reader(file)
  on.exit(lines_of$close())
  table <- dataset$table
  recode <- function(lines) {
    if (is.null(table$encoding)) {
      lines
    } else {
      recoded(lines, table$encoding, where)
    }
  }
  if (!is.null(table$skip)) lines_of$read(table$skip)
  # skip lines above the header
  repeat {
    first <- recode(lines_of$read(1))
    # an empty file with a header line expected is an export without rows
    if (!length(first) && isFALSE(table$names)) {
      return(invisible())
    }
    if (!length(first)) {
      stop_payload("The export is empty.", where, "look at the query")
    }
    bytes <- charToRaw(first)
    if (identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) {
      first <- rawToChar(bytes[-(1:3)])
    }
    if (nzchar(trimws(first)) &&
      (is.null(table$remark) ||
        !startsWith(trimws(first, "left"), table$remark))) {
      break
    }
  }
  stop_on_other_kind(first, where)
  rest <- table[setdiff(names(table), c("skip", "encoding"))]
  header <- if (table$names %||% TRUE) first
  ahead <- if (is.null(header)) first
  repeat {
    lines <- clean(
      c(
        ahead, whole_lines(lines_of, job$run$query$dataset$job$piece %||% 20000)
      )
    )
    ahead <- NULL
    if (!length(lines)) break
    lines <- recode(lines)
    at <- plain_lines(lines, rest)
    text <- paste0(paste(c(header, lines[at]), collapse = "\n"), "\n")
    before <- lines_of$passed() - length(lines)
    rows <- read_text_table(
      text = text, format = dataset$format, where = where, table = rest,
      at = c(if (!is.null(header)) NA, before + at)
    )
    keep(job_placed(job, decode_rows(
      dataset, rows, job$run$source$zone, where, job$chain$known
    ), NROW(rows)))
  }
}

# Lines up to a closed quotation mark: a line break within quotes ends no row.
whole_lines <- function(lines_of, size) {
  lines <- lines_of$read(size)
  marks <- function(text) {
    sum(
      nchar(text, "bytes") -
        nchar(gsub("\"", "", text, fixed = TRUE, useBytes = TRUE), "bytes")
    )
  }
  while (length(lines) && marks(lines) %% 2 == 1) {
    more <- lines_of$read(1)
    if (!length(more)) break
    lines <- c(lines, more)
  }
  lines
}

job_lines <- function(job, file, where, clean, keep) {
  lines_of <- job_reader(file)
  on.exit(lines_of$close())
  while (length(
    lines <- lines_of$read(job$run$query$dataset$job$piece %||% 20000)
  )) {
    before <- lines_of$passed() - length(lines)
    lines <- clean(lines)
    if (any(nzchar(trimws(lines)))) {
      body <- charToRaw(paste(lines, collapse = "\n"))
      decoded <- job_decoded(job, body, where)
      if (!is.null(decoded$base)) decoded$at <- decoded$at + before
      keep(job_placed(job, decoded))
    }
  }
}

# The places of rows in their file, which is named where there are several;
# `rows` is how many the part has.
job_placed <- function(job, decoded, rows = decoded$items) {
  if (is.null(decoded$base)) {
    decoded$at <- (decoded$at %||% seq_len(decoded$rows)) + job$passed
  }
  job$passed <- job$passed + rows
  file <- job$chain$known$file
  if (length(file)) {
    decoded$base <- paste0(
      file, ", ", decoded$base %||% job$run$query$dataset$reading$base
    )
  }
  decoded
}

# Stores a part; returns its unfinished rows, which are not covered. `bytes` is
# the size of the whole file.
job_piece <- function(job, decoded, bytes) {
  run <- job$run
  chain <- job$chain
  tidy <- query_tidy(run$query, run$calendar, chain$symbols, decoded)
  chain$asked <- now_seconds()
  chain$cover <- NULL
  chain$last <- FALSE
  chain$windowed <- TRUE
  page <- page_make(
    tidy$rows,
    tidy$rejected,
    count = decoded$rows,
    following = "piece",
    origin = list(
      base = decoded$base %||% run$query$dataset$reading$base,
      at = decoded$at, hash = decoded$hash
    ),
    says = list(
      against = if (length(tidy$others)) {
        others_against(chain$symbols, tidy$others)
      }
    )
  )
  job$chain$proof <- proof_add(job$chain$proof, page, chain$page)
  job$chain$rejected <- (chain$rejected %||% 0) + NROW(tidy$rows) -
    NROW(page$good)
  answer <- list(status = 200L, body = raw(), bytes = bytes)
  counts <- collect_store(run, chain, answer, page)
  job$tally <- collect_came(
    run, tally_page(job$tally, counts, page), chain, page
  )
  if (!is.null(tidy$rows[["status"]]) && !is.null(tidy$rows[["symbol"]])) {
    as.data.frame(
      tidy$rows[
        tidy$rows$status %in% "provisional", c("symbol", "time", "status")
      ]
    )
  }
}
