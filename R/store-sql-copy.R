# Copying an archive from one store to another: table by table, in order of id,
# each part in a transaction with its position, so that a stopped copy
# continues.

# The copied tables with their columns; `by` is the number by which parts are
# cut, and `piece` the rows in a part. Collectors and claims are not copied.
copied_tables <- list(
  series = list(
    by = "id",
    piece = 20000,
    columns = c(
      "id", "source", "dataset", "shape", "key", "frequency", "dimensions"
    )
  ),
  attributes = list(columns = c("series", "known", "attributes")),
  segments = list(
    by = "id",
    piece = 100,
    columns = c(
      "id", "series", "first", "last", "rows", "times", "level", "body"
    )
  ),
  frames = list(
    by = "id",
    piece = 100,
    columns = c(
      "id", "source", "dataset", "shape", "place", "at", "rows", "body"
    )
  ),
  records = list(
    by = "id",
    piece = 20000,
    columns = c("id", "source", "dataset", "shape", "key", "known", "body")
  ),
  types = list(columns = c("source", "dataset", "name", "type")),
  coverage = list(columns = c("source", "dataset", "key", "start", "end")),
  journal = list(
    by = "id",
    piece = 20000,
    columns = c(
      "id", "run", "source", "dataset", "symbol", "asked", "seconds", "status",
      "bytes", "rows", "outcome", "url", "message"
    )
  ),
  rejected = list(
    by = "id",
    piece = 20000,
    columns = c(
      "id", "journal", "symbol", "time", "place", "reason", "detail", "found"
    )
  ),
  notes = list(columns = c("kind", "source", "dataset", "key", "at", "value")),
  tokens = list(columns = c("source", "taken", "weight")),
  raw = list(
    by = "journal",
    piece = 50,
    columns = c("journal", "source", "dataset", "hash", "about", "body")
  ),
  origins = list(
    by = "id",
    piece = 20000,
    columns = c(
      "id", "journal", "series", "first", "last", "place", "hash", "runs"
    )
  ),
  structures = list(
    columns = c("source", "url", "etag", "modified", "fetched", "body")
  )
)

# Appends rows, given as a list of columns.
sql_append <- function(store, table, rows) UseMethod("sql_append")

# New ids continue after the copied ones.
sql_numbers_go_on <- function(store) UseMethod("sql_numbers_go_on")

#' @export
sql_numbers_go_on.default <- function(store) invisible()

sql_meta <- function(store, name) {
  sql_get(store, "SELECT value FROM meta WHERE name = ?", list(name))$value
}

sql_meta_put <- function(store, name, value) {
  sql_do(
    store,
    "INSERT INTO meta VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value =
    excluded.value",
    list(name, value)
  )
}

# A value that changes with every write.
copy_sign <- function(store) {
  counts <- lapply(names(copied_tables), function(table) {
    numbered <- copied_tables[[table]]$by
    sql_get(
      store,
      paste0(
        "SELECT count(*) AS n",
        if (!is.null(numbered)) {
          paste0(
            ", coalesce(max(", numbered, "), 0) AS last, coalesce(sum(1.0 * ",
            numbered, "), 0) AS numbers"
          )
        },
        if (table == "notes") ", coalesce(max(at), 0) AS last",
        if (table == "segments") {
          paste(
            ", coalesce(sum(1.0 * rows), 0) AS row_count,",
            "(SELECT coalesce(sum(times), 0) FROM moved) AS elsewhere"
          )
        },
        " FROM ", table
      )
    )
  })
  content_hash(
    charToRaw(
      paste(sprintf("%.17g", as.numeric(unlist(counts))), collapse = " ")
    )
  )
}

# The number of rows of each table.
copy_counts <- function(store) {
  vapply(
    names(copied_tables),
    function(table) {
      as.numeric(sql_get(store, paste("SELECT count(*) AS n FROM", table))$n)
    },
    0
  )
}

# Returns a data frame of table, rows: what was copied. `show` is called after
# each part: table, its rows, and the copied rows.
store_move <- function(from, to, show = function(...) NULL) {
  store_snapshot(from, function() {
    sign <- copy_sign(from)
    state <- copy_begin(to, sign)
    total <- copy_counts(from)
    for (table in names(copied_tables)) {
      state <- copy_table(
        from, to, table, state, function(done) show(table, total[[table]], done)
      )
    }
    moved <- copy_moved(
      from, to, state, function(done, all) show("series", all, done)
    )
    store_transaction(to, function() {
      sql_numbers_go_on(to)
      came <- copy_counts(to)
      # series that were stored elsewhere get new segments
      if (moved) total[["segments"]] <<- came[["segments"]]
      if (!identical(came, total)) {
        odd <- names(total)[came != total][1]
        vetusta_stop(
          "archive",
          paste0(
            "The copy has ", came[[odd]], " rows of ", odd,
            ", and the archive ", total[[odd]], "."
          ),
          where = to$path, todo = "run the copy again"
        )
      }
    })
    data.frame(table = names(total), rows = unname(total))
  })
}

# Rows stored elsewhere arrive as segments, a series at a time; returns whether
# there are any.
copy_moved <- function(from, to, state, show) UseMethod("copy_moved")

#' @export
copy_moved.default <- function(from, to, state, show) FALSE

# The position where a copy continues or begins; a copy of an archive that was
# written to since begins again.
copy_begin <- function(to, sign) {
  saved <- sql_meta(to, "copy")
  state <- if (length(saved)) jsonlite::fromJSON(saved)
  if (is.null(state)) {
    counts <- copy_counts(to)
    if (any(counts > 0)) {
      vetusta_stop(
        "archive", "The archive to copy into is not empty.",
        where = to$path,
        todo = "give a new file, or an empty database"
      )
    }
  }
  if (!identical(state$sign, sign)) {
    state <- list(sign = sign, done = list(), last = 0)
    store_transaction(to, function() {
      for (table in rev(names(copied_tables))) {
        sql_do(to, paste("DELETE FROM", table))
      }
      copy_note(to, state)
    })
  }
  state
}

copy_note <- function(to, state) {
  sql_meta_put(
    to, "copy",
    as.character(jsonlite::toJSON(state, auto_unbox = TRUE, digits = NA))
  )
}

copy_table <- function(from, to, table, state, show) {
  about <- copied_tables[[table]]
  if (table %in% unlist(state$done)) {
    return(state)
  }
  columns <- paste0("\"", about$columns, "\"", collapse = ", ")
  done <- 0
  repeat {
    rows <- if (is.null(about$by)) {
      sql_get(from, paste("SELECT", columns, "FROM", table))
    } else {
      sql_get(
        from,
        paste(
          "SELECT", columns, "FROM", table, "WHERE", about$by, "> ? ORDER BY",
          about$by, "LIMIT", about$piece
        ),
        list(as.numeric(state$last))
      )
    }
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

# An unfinished copy is no archive yet.
check_whole_copy <- function(store) {
  if (length(sql_meta(store, "copy"))) {
    vetusta_stop(
      "archive", "The archive is an incomplete copy.",
      where = store$path,
      todo = "continue it: vetusta archive copy FROM TO"
    )
  }
}

# A whole store as a file.
copy_to_file <- function(store, file) {
  copy <- sqlite_store(file)
  on.exit(store_close(copy))
  store_move(store, copy)
  sql_do(copy, "DELETE FROM meta WHERE name = 'copy'")
  sql_get(copy, "PRAGMA wal_checkpoint(TRUNCATE)")
}
