# Checks of an archive in SQL, and compaction.

# A check of everything stored: a data frame of what, where, finding, lost.
store_check <- function(store) {
  findings <- list()
  add <- function(what, where, finding, lost = FALSE) {
    n <- max(length(where), length(finding))
    if (length(where) && length(finding)) {
      findings[[length(findings) + 1]] <<- data.frame(
        what = rep(what, n), where = rep_len(where, n),
        finding = rep_len(finding, n), lost = rep(lost, n)
      )
    }
  }
  add("database", basename(store$path), sql_check_database(store), TRUE)
  # a part that the database cannot read is a finding
  part <- function(what, work) {
    tryCatch(work(), error = function(e) {
      # a server that is away has lost nothing
      away <- isTRUE(e$away)
      finding <- sub("\n.*", "", conditionMessage(e))
      if (away) finding <- paste("is not checked:", lower_first(finding))
      add(what, basename(store$path), finding, !away)
    })
  }
  part("segment", function() check_segments(store, add))
  part("coverage", function() check_coverage(store, add))
  part("series", function() {
    bare <- sql_get(
      store,
      "SELECT source, dataset, key, frequency FROM series WHERE NOT EXISTS
      (SELECT 1 FROM segments WHERE series = series.id) AND NOT EXISTS
      (SELECT 1 FROM moved WHERE series = series.id)"
    )
    add("series", series_id(bare), "has no rows")
    orphans <- sql_get(
      store,
      "SELECT DISTINCT series FROM segments WHERE series NOT IN
      (SELECT id FROM series)"
    )$series
    add(
      "series", paste("number", orphans)[seq_along(orphans)],
      "has rows and is not there", TRUE
    )
  })
  part("column", function() sql_check_more(store, add))
  part("frame", function() check_bodies(store, "frames", add))
  part("record", function() check_records(store, add))
  part("note", function() {
    lost <- sql_get(
      store,
      "SELECT journal FROM raw WHERE journal NOT IN
      (SELECT id FROM journal)"
    )$journal
    add(
      "note", paste("raw page", lost)[seq_along(lost)], "belongs to no request"
    )
  })
  none <- data.frame(
    what = character(), where = character(), finding = character(),
    lost = logical()
  )
  do.call(rbind, c(list(none), findings))
}

# Reads each segment and compares it with its entry.
check_segments <- function(store, add) {
  last <- 0
  repeat {
    some <- sql_get(
      store,
      "SELECT g.id, g.first, g.last, g.rows, g.times, g.body, s.source,
      s.dataset, s.key, s.frequency FROM segments g LEFT JOIN series s ON s.id =
      g.series WHERE g.id > ? ORDER BY g.id LIMIT 200",
      list(last)
    )
    if (!nrow(some)) break
    last <- max(some$id)
    where <- paste0(series_id(some), ", from ", format_instant(some$first))
    for (i in seq_len(nrow(some))) {
      read <- tryCatch(
        blocks_read(some$body[i], newest = FALSE),
        error = function(e) NULL
      )
      if (is.null(read)) {
        add(
          "segment", where[i],
          "is damaged: its bytes are not those that were written", TRUE
        )
        next
      }
      time <- as.numeric(read$columns$time)
      right <- length(time) == some$rows[i] &&
        length(time) > 0 &&
        time[1] == some$first[i] &&
        time[length(time)] == some$last[i] &&
        length(unique(time)) == some$times[i]
      if (!right) {
        add("segment", where[i], "has other rows than its catalogue", TRUE)
      }
    }
  }
  over <- sql_get(
    store,
    "SELECT s.source, s.dataset, s.key, s.frequency FROM series s WHERE s.id
    IN (SELECT series FROM (SELECT series, first, lag(last) OVER (PARTITION BY
    series ORDER BY
      first) AS before FROM segments) g WHERE first <= before)"
  )
  add("segment", series_id(over), "has two segments of the same time")
}

# Ranges that end before they begin, or overlap; and those of datasets that were
# never requested.
check_coverage <- function(store, add) {
  odd <- sql_get(
    store,
    "SELECT source, dataset, key FROM (SELECT source, dataset, key, start,
    \"end\" AS ends, lag(\"end\") OVER (PARTITION BY source, dataset,
    key ORDER BY start) AS before FROM coverage) c WHERE start >= ends OR start
    < before"
  )
  where <- function(rows) {
    paste0(rows$source, "/", rows$dataset, " ", rows$key)[seq_len(nrow(rows))]
  }
  add("coverage", where(odd), "has stretches that cannot be")
  bare <- sql_get(
    store,
    "SELECT DISTINCT source, dataset, '' AS key FROM coverage c WHERE NOT
    EXISTS (SELECT 1 FROM journal j WHERE j.source = c.source AND j.dataset =
    c.dataset)"
  )
  add("coverage", where(bare), "is marked complete, and was never requested")
}

check_bodies <- function(store, table, add) {
  blocks <- sql_get(
    store, paste("SELECT source, dataset, at, rows, body FROM", table)
  )
  for (i in seq_len(nrow(blocks))) {
    read <- tryCatch(blocks_read(blocks$body[i])$rows, error = function(e) -1)
    if (!identical(as.numeric(read), as.numeric(blocks$rows[i]))) {
      add(
        "frame",
        paste0(
          blocks$source[i], "/", blocks$dataset[i], " at ",
          format_instant(blocks$at[i])
        ),
        "is damaged: its bytes are not those that were written", TRUE
      )
    }
  }
}

check_records <- function(store, add) {
  bad <- sql_get(
    store, "SELECT source, dataset, key FROM records WHERE NOT @valid"
  )
  add(
    "record",
    paste0(bad$source, "/", bad$dataset, " ", bad$key)[seq_len(nrow(bad))],
    "is damaged", TRUE
  )
}

# Further checks, reported by `add(what, where, finding, lost)`.
sql_check_more <- function(store, add) UseMethod("sql_check_more")

#' @export
sql_check_more.default <- function(store, add) invisible()

# Findings of the database itself, as texts.
sql_check_database <- function(store) UseMethod("sql_check_database")

#' @export
sql_check_database.default <- function(store) character()

# Frees unused space.
sql_give_back <- function(store) UseMethod("sql_give_back")

#' @export
store_compact.vetusta_store_sql <- function(store) {
  many <- sql_get(
    store, "SELECT series FROM segments GROUP BY series HAVING count(*) > 1"
  )$series
  # as few segments as possible, because nobody waits
  for (ids in split(many, (seq_along(many) - 1) %/% 1000)) {
    store_settle(store, ids, whole = segment_rows / 2)
  }
  sql_do(store, "DELETE FROM claims WHERE done IS NOT NULL")
  # quotas count requests for a month at most
  sql_do(
    store, "DELETE FROM tokens WHERE taken < ?",
    list(store_now(store) - 40 * 86400)
  )
  sql_give_back(store)
  invisible()
}
