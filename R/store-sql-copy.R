# An archive moved from one store to another: table by table, in the order of their numbers, each
# piece in a transaction with how far it got, so that a copy that was stopped goes on.

# The tables that are copied, with their columns; `by` is the number by which pieces are cut, and
# `piece` how many rows one has. Who is at what is a matter of the archive that was.
copied_tables <- list(
  series = list(by = "id", piece = 20000, columns = c("id", "source", "dataset", "shape", "key",
    "frequency", "dimensions")),
  attributes = list(columns = c("series", "known", "attributes")),
  segments = list(by = "id", piece = 100, columns = c("id", "series", "first", "last", "rows",
    "times", "level", "body")),
  frames = list(by = "id", piece = 100, columns = c("id", "source", "dataset", "shape", "place",
    "at", "rows", "body")),
  records = list(by = "id", piece = 20000, columns = c("id", "source", "dataset", "shape", "key",
    "known", "body")),
  types = list(columns = c("source", "dataset", "name", "type")),
  coverage = list(columns = c("source", "dataset", "key", "start", "end")),
  journal = list(by = "id", piece = 20000, columns = c("id", "run", "source", "dataset", "symbol",
    "asked", "seconds", "status", "bytes", "rows", "outcome", "url", "message")),
  rejected = list(by = "id", piece = 20000, columns = c("id", "journal", "symbol", "time", "place",
    "reason", "detail", "found")),
  notes = list(columns = c("kind", "source", "dataset", "key", "at", "value")),
  tokens = list(columns = c("source", "taken", "weight")),
  raw = list(by = "journal", piece = 50, columns = c("journal", "source", "dataset", "hash",
    "about", "body")),
  structures = list(columns = c("source", "url", "etag", "modified", "fetched", "body"))
)

# Rows at once, as a list of columns by their names.
sql_append <- function(store, table, rows) UseMethod("sql_append")

# Numbers that are given on their own go on behind those that were copied.
sql_numbers_go_on <- function(store) UseMethod("sql_numbers_go_on")

#' @export
sql_numbers_go_on.default <- function(store) invisible()

sql_meta <- function(store, name) {
  sql_get(store, "SELECT value FROM meta WHERE name = ?",
  list(name))$value
}

sql_meta_put <- function(store, name, value) {
  sql_do(store, "INSERT INTO meta VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value =
    excluded.value", list(name, value))
}

# What differs when anything was written since.
copy_sign <- function(store) {
  counts <- lapply(names(copied_tables), function(table) {
    numbered <- copied_tables[[table]]$by
    sql_get(store, paste0("SELECT count(*) AS n", if (!is.null(numbered))
      paste0(", coalesce(max(", numbered, "), 0) AS last, coalesce(sum(1.0 * ", numbered,
        "), 0) AS numbers"), if (table == "notes") ", coalesce(max(at), 0) AS last",
      if (table == "segments") paste(", coalesce(sum(1.0 * rows), 0) AS row_count,",
        "(SELECT coalesce(sum(times), 0) FROM moved) AS elsewhere"), " FROM ", table))
  })
  content_hash(charToRaw(paste(sprintf("%.17g", as.numeric(unlist(counts))), collapse = " ")))
}

# How many rows each table has.
copy_counts <- function(store) {
  vapply(names(copied_tables), function(table) {
    as.numeric(sql_get(store, paste("SELECT count(*) AS n FROM", table))$n)
  }, 0)
}

# Gives a data frame of table, rows: what was copied. `show` is told of each piece: table, how many
# rows of it there are, and how many are copied.
store_move <- function(from, to, show = function(...) NULL) {
  store_snapshot(from, function() {
    sign <- copy_sign(from)
    state <- copy_begin(to, sign)
    total <- copy_counts(from)
    for (table in names(copied_tables)) {
      state <- copy_table(from, to, table, state, function(done) show(table, total[[table]], done))
    }
    moved <- copy_moved(from, to, state, function(done, all) show("series", all, done))
    store_transaction(to, function() {
      sql_numbers_go_on(to)
      came <- copy_counts(to)
      # of series that stood elsewhere the segments are new
      if (moved) total[["segments"]] <<- came[["segments"]]
      if (!identical(came, total)) {
        odd <- names(total)[came != total][1]
        vetusta_stop("archive", paste0("The copy has ", came[[odd]], " rows of ", odd,
          ", and the archive ", total[[odd]], "."), where = to$path, todo = "run the copy again")
      }
    })
    data.frame(table = names(total), rows = unname(total))
  })
}

# Rows that stand elsewhere come as segments, a series at a time; gives whether there are any.
copy_moved <- function(from, to, state, show) UseMethod("copy_moved")

#' @export
copy_moved.default <- function(from, to, state, show) FALSE

# Where a copy goes on, or begins; one of an archive that was written to since begins anew.
copy_begin <- function(to, sign) {
  saved <- sql_meta(to, "copy")
  state <- if (length(saved)) jsonlite::fromJSON(saved)
  if (is.null(state)) {
    counts <- copy_counts(to)
    if (any(counts > 0)) {
      vetusta_stop("archive", "The archive to copy into is not empty.", where = to$path,
        todo = "give a new file, or an empty database")
    }
  }
  if (!identical(state$sign, sign)) {
    state <- list(sign = sign, done = list(), last = 0)
    store_transaction(to, function() {
      for (table in rev(names(copied_tables))) sql_do(to, paste("DELETE FROM", table))
      copy_note(to, state)
    })
  }
  state
}

copy_note <- function(to, state) {
  sql_meta_put(to, "copy", as.character(jsonlite::toJSON(state, auto_unbox = TRUE, digits = NA)))
}

copy_table <- function(from, to, table, state, show) {
  about <- copied_tables[[table]]
  if (table %in% unlist(state$done)) {
    return(state)
  }
  columns <- paste0("\"", about$columns, "\"", collapse = ", ")
  done <- 0
  repeat {
    rows <- if (is.null(about$by)) sql_get(from, paste("SELECT", columns, "FROM", table))
    else sql_get(from, paste("SELECT", columns, "FROM", table, "WHERE", about$by, "> ? ORDER BY",
      about$by, "LIMIT", about$piece), list(as.numeric(state$last)))
    whole <- is.null(about$by) || nrow(rows) < about$piece
    state$last <- if (whole) 0 else max(rows[[about$by]])
    if (whole) state$done <- c(unlist(state$done), table)
    store_transaction(to, function() {
      if (nrow(rows)) sql_append(to, table, as.list(rows))
      copy_note(to, state)
    })
    done <- done + nrow(rows)
    show(done)
    if (whole) {
      return(state)
    }
  }
}

# A copy that is not whole is no archive yet.
check_whole_copy <- function(store) {
  if (length(sql_meta(store, "copy"))) {
    vetusta_stop("archive", "The archive is an incomplete copy.", where = store$path,
      todo = "go on with it: vetusta archive copy FROM TO")
  }
}

# All of a store as a file.
copy_to_file <- function(store, file) {
  copy <- sqlite_store(file)
  on.exit(store_close(copy))
  store_move(store, copy)
  sql_do(copy, "DELETE FROM meta WHERE name = 'copy'")
  sql_get(copy, "PRAGMA wal_checkpoint(TRUNCATE)")
}
