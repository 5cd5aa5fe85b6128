# Work on an archive of many series against the same work at 20,000, in a file
# and on a PostgreSQL server: opening, lists, status, a refresh that has nothing
# to do, and the first view of the page. Each is a process of its own, in turn.
# Run from the project's folder: Rscript bench/many.R [series ...]; the file
# alone with VETUSTA_BENCH=file, the server alone with =server.
source("bench/parts.R")
inside <- asNamespace("vetusta")
sizes <- c(20000, as.numeric(commandArgs(TRUE)))
if (length(sizes) == 1) sizes <- c(sizes, 200000)
only <- Sys.getenv("VETUSTA_BENCH")
source(file.path("tests", "testthat", "helper-postgres.R"))
today <- as.numeric(Sys.Date()) * 86400
days <- 5

# A desk whose queries ask for three fifths of the series, and for 200 of them.
desk_of_many <- function(size, uri = NULL) {
  folder <- tempfile("desk")
  invisible(desk_make(folder, cards = character()))
  writeLines(
    c(
      "source: bench", "url: http://127.0.0.1:9", "limits: [50 per second]",
      "datasets:", "  bars:", "    shape: bars",
      "    request: /bars/{symbol}{?from,to}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    rows: /items",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    file.path(folder, "sources", "bench.yml")
  )
  bars <- size * 3 / 5
  writeLines(sprintf("S%07d", seq_len(bars)), file.path(folder, "all.txt"))
  writeLines(sprintf("S%07d", seq_len(200)), file.path(folder, "few.txt"))
  of <- paste0("interval: 1 day, from: ", format(Sys.Date() - days), "}")
  writeLines(
    c(
      "desk: bench", if (!is.null(uri)) paste("archive:", uri), "track:",
      paste0("  all: {source: bench, symbols: {file: all.txt}, ", of),
      paste0("  few: {source: bench, symbols: {file: few.txt}, ", of)
    ),
    file.path(folder, "desk.yml")
  )
  desk_open(folder)
}

# One series of each dataset is stored as usual, and the others are copied.
fill <- function(desk, size) {
  archive <- archive_open(desk$archive)
  at <- today - 86400 * (days:1)
  put <- function(dataset, shape, symbol, rows, frequency, covered) {
    inside$store_put(
      archive,
      list(
        source = "bench", dataset = dataset, shape = shape,
        rows = inside$archive_parcel(shape, rows, frequency = frequency),
        covered = covered
      )
    )
  }
  put(
    "bars", "bars", "S0000001",
    data.frame(
      symbol = "S0000001", time = .POSIXct(at, "UTC"), open = NA_real_,
      high = NA_real_, low = NA_real_, close = 40.5, volume = NA_real_,
      session = NA_character_, side = NA_character_, status = "observed"
    ),
    "P1D",
    data.frame(
      key = inside$bars_cover_key("S0000001", "P1D", "regular"),
      start = today - 86400 * days, end = today
    )
  )
  inside$store_gathered(archive)
  connection <- archive$connection
  like <- DBI::dbGetQuery(connection, "SELECT * FROM series")
  cover <- DBI::dbGetQuery(connection, "SELECT * FROM coverage")
  numbers <- function(from, to) {
    if (inherits(archive, "vetusta_store_postgres")) {
      sprintf("generate_series(%.0f, %.0f) AS n(i)", from, to)
    } else {
      sprintf(
        paste(
          "(WITH RECURSIVE n(i) AS (SELECT %.0f UNION ALL SELECT i + 1 FROM n",
          "WHERE i < %.0f) SELECT i FROM n) AS n"
        ),
        from, to
      )
    }
  }
  text <- if (inherits(archive, "vetusta_store_postgres")) {
    "'S' || lpad(i::text, 7, '0')"
  } else {
    "printf('S%07d', i)"
  }
  do <- function(...) DBI::dbExecute(connection, paste0(...))
  bars <- size * 3 / 5
  copy <- function(dataset, from, to) {
    do(
      "INSERT INTO series (id, source, dataset, shape, key, frequency,
      dimensions) SELECT i, source, '", dataset, "', shape, replace(key,
      'S0000001', ", text, "), frequency, replace(dimensions, 'S0000001', ",
      text, ") FROM series, ", numbers(from, to), " WHERE id = ", like$id
    )
    do(
      "INSERT INTO coverage (source, dataset, key, start, \"end\") ",
      "SELECT source, '", dataset, "', replace(key, 'S0000001', ", text,
      "), start, \"end\" FROM coverage, ", numbers(from, to),
      " WHERE source = 'bench' AND dataset = 'bars' AND key = '", cover$key, "'"
    )
    do(
      "INSERT INTO segments (", paste(segment_columns, collapse = ", "),
      ") SELECT ", paste(sub("series", "i", segment_columns), collapse = ", "),
      " FROM segments, ", numbers(from, to), " WHERE series = ", like$id
    )
  }
  segment_columns <- setdiff(
    names(DBI::dbGetQuery(connection, "SELECT * FROM segments LIMIT 0")), "id"
  )
  DBI::dbBegin(connection)
  copy("bars", like$id + 1, bars)
  for (i in 0:7) copy(
    paste0("other", i), bars + 1 + i * size / 20, bars + (i + 1) * size / 20
  )
  DBI::dbCommit(connection)
  # a server does so by itself, a minute later
  do("ANALYZE")
  archive_close(archive)
}
timed_line <- function(desk, words) {
  code <- sprintf(
    "setwd('%s'); status <- vetusta::cli_main(c(%s)); stopifnot(status == 0)",
    desk$folder, paste0("'", words, "'", collapse = ", ")
  )
  timed_code(code)
}
timed_code <- function(code) {
  began <- proc.time()
  done <- processx::run(
    "Rscript", c("--no-init-file", "-e", code), error_on_status = FALSE,
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
  if (done$status != 0) stop(done$stderr)
  spent <- proc.time() - began
  spent[[3]]
}
page <- "
  library(shiny)
  desk <- vetusta::desk_open('%s')
  inside <- asNamespace('vetusta')
  place <- inside$browse_desk(desk)
  invisible(place$reader())
  html <- c(
    as.character(inside$browse_ui(place)),
    as.character(inside$browse_about(place)),
    as.character(inside$browse_tree(place, '', '', character())),
    as.character(inside$browse_overview(place))
  )
  stopifnot(sum(nchar(html)) > 1e4)
"
work <- list(
  "opening" = function(desk) {
    timed_code(
      sprintf(
        "a <- vetusta::archive_open('%s'); vetusta::archive_close(a)",
        desk$archive
      )
    )
  },
  "list (touched since)" = function(desk) {
    archive <- archive_open(desk$archive)
    inside$store_note(archive, "bench", "bench", "", "touch", "")
    archive_close(archive)
    timed_line(desk, "list")
  },
  "list PATTERN of 10" = function(desk) {
    timed_line(desk, c("list", "bench/bars/S000005?*"))
  },
  "list ID" = function(desk) timed_line(desk, c("list", "S0000050")),
  "status" = function(desk) timed_line(desk, "status"),
  "refresh, nothing to do" = function(desk) timed_line(desk, "refresh"),
  "refresh of few" = function(desk) timed_line(desk, c("refresh", "few")),
  "first view of the page" = function(desk) {
    timed_code(sprintf(page, desk$folder))
  }
)
compare <- function(what, desks, times = 5) {
  for (name in names(work)) {
    spent <- vapply(
      seq_len(times),
      function(i) vapply(desks, function(desk) work[[name]](desk), 0),
      numeric(length(desks))
    )
    middle <- apply(matrix(spent, length(desks)), 1, stats::median)
    say(
      paste0(what, ": ", name),
      "%s",
      paste(
        sprintf("%.2f s (%.2f)", middle, middle / middle[1]), collapse = ", "
      )
    )
  }
}
say <- function(what, ...) {
  cat(what, ": ", sprintf(...), "\n", sep = "")
  flush(stdout())
}
if (only != "server") files <- lapply(sizes, function(size) {
  desk <- desk_of_many(size)
  fill(desk, size)
  desk
})
if (only != "server") compare("file", files)
if (only != "file") {
  server <- postgres_server(environment(), safe = TRUE)
  servers <- lapply(sizes, function(size) {
    name <- paste0("market", format(size, scientific = FALSE))
    server$sql(paste("CREATE DATABASE", name))
    desk <- desk_of_many(size, server$uri(name))
    fill(desk, size)
    desk
  })
  compare("PostgreSQL", servers)
  invisible(server$stop())
}
