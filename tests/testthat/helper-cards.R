# Cards for scripted servers, and their answers.
write_card <- function(url, dataset, extra = character(),
                       env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(
    c(
      "source: test", paste0("url: ", url), extra, "datasets:", "  rows:",
      "    shape: table", paste0("    ", dataset)
    ),
    file
  )
  file
}

collect_rows <- function(card, archive = NULL, ..., env = parent.frame()) {
  if (is.null(archive)) archive <- new_archive(env)
  run <- collect_run(
    plan_requests(query_rows(source_card(card), "rows", ...), archive),
    archive, progress = FALSE
  )
  list(
    run = run,
    rows = tryCatch(
      archive_rows(archive, "test", "rows"),
      vetusta_error_argument = function(e) NULL
    ),
    journal = archive_journal(archive),
    archive = archive
  )
}

json_answer <- function(body, headers = list(), status = 200L) {
  list(
    status = status,
    headers = c(list("Content-Type" = "application/json"), headers),
    body = if (is.character(body)) {
      body
    } else {
      as.character(
        jsonlite::toJSON(body, auto_unbox = TRUE, digits = NA, null = "null")
      )
    }
  )
}

# The value of a parameter in a scripted server's request.
asked <- function(request, name) {
  found <- regmatches(
    request$QUERY_STRING,
    regexec(paste0("[?&]", name, "=([^&]*)"), request$QUERY_STRING)
  )[[1]]
  if (length(found)) utils::URLdecode(found[2])
}

# A card of complete lines, and the result of collecting from it.
bars_card <- function(url, lines, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(c("source: test", paste0("url: ", url), lines), file)
  source_card(file)
}
collect_bars <- function(source, symbols, interval, from, to, archive = NULL,
                         ..., env = parent.frame()) {
  if (is.null(archive)) archive <- new_archive(env)
  run <- collect_run(
    plan_requests(
      query_bars(source, symbols, interval, from = from, to = to), archive
    ),
    archive, progress = FALSE, ...
  )
  list(
    run = run,
    archive = archive,
    bars = tryCatch(
      archive_bars(archive, symbols, interval),
      vetusta_error_argument = function(e) NULL
    ),
    journal = archive_journal(archive)
  )
}

# Stores rows in an archive without a request.
put_rows <- function(archive, source, dataset, shape, rows, frequency = "",
                     ...) {
  parcel <- vetusta:::archive_parcel(
    shape,
    as.data.frame(rows),
    frequency = frequency,
    at = as.numeric(Sys.time())
  )
  vetusta:::store_put(
    archive,
    list(source = source, dataset = dataset, shape = shape, rows = parcel, ...)
  )
}
