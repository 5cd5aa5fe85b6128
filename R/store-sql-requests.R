# A store's records about requests: coverage, notes, claims, tokens, the
# journal, rejected rows, raw pages, structures.

# Covered ranges: key, start, end; of some keys or all of a dataset.
store_covered <- function(store, source, dataset, keys = NULL) {
  few <- store_covered_few(store, source, dataset, length(keys))
  sql_get(
    store,
    paste(
      "SELECT key, start, \"end\" FROM coverage WHERE source = ? AND dataset
        = ?",
      if (few) "AND key IN @texts", "ORDER BY key, start"
    ),
    c(list(source, dataset), if (few) list(json_array(keys))),
    often = few
  )
}

# Whether so many keys are a few of a dataset's: to look each up is then faster
# than to read all ranges.
store_covered_few <- function(store, source, dataset, count) {
  if (count <= 200) {
    return(count > 0)
  }
  most <- 4 * count
  there <- sql_get(
    store,
    "SELECT count(*) AS ranges FROM (SELECT 1 AS one FROM coverage WHERE source
      = ? AND dataset = ? LIMIT CAST(? AS bigint)) c",
    list(source, dataset, most)
  )$ranges
  there >= most
}

# Whether rows of a dataset were requested, and not only imported.
store_was_requested <- function(store, source, dataset) {
  found <- function(statement) {
    nrow(sql_get(store, statement, list(source, dataset))) > 0
  }
  found(
    "SELECT 1 AS one FROM coverage WHERE source = ? AND dataset = ? LIMIT 1"
  ) ||
    found(
      "SELECT 1 AS one FROM journal WHERE source = ? AND dataset = ?
        AND run <> 'import' LIMIT 1"
    )
}

# Notes about requests by kind ("reached", "job", "round", "asked", "refreshed")
# and key: key, at, value; for several kinds also `kind`, and without a source
# also `source` and `dataset`.
store_notes <- function(store, kind, source = NULL, dataset = NULL,
                        key = NULL) {
  everywhere <- is.null(source)
  several <- length(kind) > 1
  sql_get(
    store,
    paste0(
      "SELECT ", if (several) "kind, ", if (everywhere) "source, dataset, ",
      "key, at, value FROM notes WHERE kind ",
      if (several) "IN @texts " else "= ? ",
      if (!everywhere) "AND source = ? ",
      if (!is.null(dataset)) "AND dataset = ? ",
      if (!is.null(key)) "AND key = ? ", "ORDER BY key"
    ),
    c(list(if (several) json_array(kind) else kind), source, dataset, key),
    often = !is.null(key)
  )
}

store_note <- function(store, kind, source, dataset, key,
                       value = NA_character_, at = store_now(store)) {
  sql_do(
    store,
    "INSERT INTO notes (kind, source, dataset, key, at, value) VALUES (?, ?,
    ?, ?, ?, ?) ON CONFLICT (kind, source, dataset,
    key) DO UPDATE SET at = excluded.at, value =
      excluded.value",
    list(kind, source, dataset, key, at, value)
  )
}

store_forget <- function(store, kind, source, dataset, key) {
  sql_do(
    store,
    "DELETE FROM notes WHERE kind = ? AND source = ? AND dataset = ? AND key
      = ?",
    list(kind, source, dataset, key)
  )
}

# The latest instant at which an answered request can have been counted.
store_token_made <- function(store, id, at) {
  # a token that lost this in a crash would count longer
  sql_do(
    store, "UPDATE tokens SET taken = ? @lazily WHERE rowid = ?", list(at, id),
    often = TRUE
  )
}

# The shortest answer time of a source and the number of answers, of all
# collectors of the last hour. With `own`, these two of this collector are noted
# before.
store_travel <- function(store, source, own = NULL) {
  now <- store_now(store)
  if (!is.null(own)) {
    me <- store_process(store)
    store_note(
      store, "travel", source, "", paste(me$host, me$process, me$began),
      paste(format_exact(own), collapse = " "), now
    )
  }
  notes <- store_notes(store, "travel", source, "")
  old <- notes$at < now - 3600
  for (key in notes$key[old]) store_forget(store, "travel", source, "", key)
  values <- strsplit(as.character(notes$value[!old]), " ", fixed = TRUE)
  list(
    fastest = min(Inf, as.numeric(vapply(values, `[`, "", 1))),
    answers = sum(0, as.numeric(vapply(values, `[`, "", 2)))
  )
}

store_tokens <- function(store, source, since = -1e18) {
  sql_get(
    store,
    "SELECT rowid AS id, taken AS time, weight FROM tokens WHERE source = ?
      AND taken > ?",
    list(source, since),
    often = TRUE
  )
}

# Limits with the tokens of a quota that are older than two minutes counted
# apart, now and then: what is left of the count, since that time. Such tokens
# are answered; one that is not is then counted twice.
store_quotas_lately <- function(store, source, limits) {
  lapply(limits, function(limit) {
    if (is.null(limit$since)) {
      return(limit)
    }
    now <- store_now(store)
    key <- paste(source, format_exact(limit$since), isTRUE(limit$weighs))
    old <- store$quotas[[key]]
    if (is.null(old) || now < old$at || old$uses >= 500) {
      until <- max(limit$since, now - 120)
      counted <- if (isTRUE(limit$weighs)) "sum(weight)" else "count(*)"
      tokens <- sql_get(
        store,
        paste0(
          "SELECT coalesce(", counted, ", 0) AS taken FROM tokens WHERE source
          = ? AND taken > ? AND taken <= ?"
        ),
        list(source, limit$since, until)
      )
      old <- list(at = now, until = until, taken = tokens$taken, uses = 0)
    }
    old$uses <- old$uses + 1
    # those of days that are over are not kept
    kept <- store$quotas[vapply(store$quotas, `[[`, 0, "at") > now - 3600]
    store$quotas <- c(kept[names(kept) != key], stats::setNames(list(old), key))
    limit$since <- old$until
    limit$count <- limit$count - old$taken
    limit
  })
}

store_tokens_forget <- function(store, source, before) {
  sql_do(
    store, "DELETE FROM tokens WHERE source = ? AND taken <= ?",
    list(source, before)
  )
}

# The columns of the journal, which are the fields of an entry.
journal_columns <- c(
  "run", "source", "dataset", "symbol", "asked", "seconds", "status", "bytes",
  "rows", "outcome", "url", "message"
)

journal_values <- function(entry) {
  lapply(journal_columns, function(name) entry[[name]] %||% NA)
}

# The journal and the rejected rows, oldest first.
store_journal <- function(store) {
  sql_get(
    store,
    paste(
      "SELECT", paste(journal_columns, collapse = ", "),
      "FROM journal ORDER BY id"
    )
  )
}

store_journal_add <- function(store, entry) {
  sql_do(
    store,
    paste0(
      "INSERT INTO journal (", paste(journal_columns, collapse = ", "),
      ") VALUES (", paste(rep("?", length(journal_columns)), collapse = ", "),
      ")"
    ),
    journal_values(entry),
    often = TRUE
  )
}

store_rejected <- function(store) {
  sql_get(
    store,
    "SELECT symbol, time, place, reason, detail,
      found FROM rejected ORDER BY id"
  )
}

sql_put_rejected <- function(store, rejected, journal, now) {
  n <- nrow(rejected)
  if (n) {
    sql_do(
      store,
      paste0(
        "INSERT INTO rejected (journal, symbol, time, place, reason, detail,
          found) VALUES (?, ",
        "?, ?, ?, ?, ?, ?)"
      ),
      list(
        rep(journal, n), rejected$symbol, as.numeric(rejected$time),
        rejected$place, rejected$reason, rejected$detail, rep(now, n)
      )
    )
  }
}

# The bytes of the newest stored pages of a dataset.
store_page_bytes <- function(store, source, dataset) {
  as.numeric(
    sql_get(
      store,
      "SELECT bytes FROM journal WHERE source = ? AND dataset = ? AND outcome
    = 'stored' ORDER BY id DESC LIMIT 50",
      list(source, dataset)
    )$bytes
  )
}

# Raw pages: their list, and one of them.
store_raw <- function(store, source, dataset) {
  sql_get(
    store,
    "SELECT journal, about, hash FROM raw WHERE source = ? AND dataset = ?
      ORDER BY journal",
    list(source, dataset)
  )
}

store_raw_body <- function(store, journal) {
  memDecompress(
    sql_get(
      store, "SELECT body FROM raw WHERE journal = ?", list(journal)
    )$body[[1]],
    "gzip"
  )
}

# A raw page is stored compressed with a hash of its bytes.
sql_put_raw <- function(store, page, journal) {
  sql_do(
    store,
    "INSERT INTO raw (journal, source, dataset, hash, about, body) VALUES (?,
      ?, ?, ?, ?, ?)",
    list(
      journal, page$source, page$dataset, page$raw$hash, page$raw$about,
      list(memCompress(page$raw$body, "gzip"))
    )
  )
}

content_hash <- function(body) cli::hash_raw_md5(body)

# A hash of 16 characters, xxHash with 64 bits and seed 0: the bytes of every
# page are hashed, and this costs a tenth of the standard ones.
origin_hash <- function(body) {
  digest::digest(body, algo = "xxhash64", serialize = FALSE)
}

# Structures of statistics with their validators.
store_structure <- function(store, source, url) {
  document <- sql_get(
    store,
    "SELECT etag, modified, fetched, body FROM structures WHERE source = ?
      AND url = ?",
    list(source, url)
  )
  if (nrow(document)) {
    list(
      etag = document$etag,
      modified = document$modified,
      fetched = document$fetched,
      body = memDecompress(document$body[[1]], "gzip")
    )
  }
}

store_structure_put <- function(store, source, url, etag, modified, body) {
  sql_do(
    store,
    "INSERT INTO structures (source, url, etag, modified, fetched,
      body) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (source, url) DO UPDATE SET etag = excluded.etag,
    modified = excluded.modified, fetched = excluded.fetched,
    body = excluded.body",
    list(
      source, url, etag %||% NA, modified %||% NA, store_now(store),
      list(memCompress(body, "gzip"))
    )
  )
}

store_structure_touch <- function(store, source, url) {
  sql_do(
    store, "UPDATE structures SET fetched = ? WHERE source = ? AND url = ?",
    list(store_now(store), source, url)
  )
}
