# A pack: series of an archive with their history, lists, labels and origins as
# Parquet, for another archive. Rows go as the store has them, with every
# release, so that the same reading gives the same numbers.

pack_form <- 1

# Shapes of keyed rows that go with the series of their source: names, actions
# and contracts are needed to read these alike.
pack_lists <- c("instruments", "places", "actions", "contracts", "members")

# Writes the parts of a pack into a folder; returns list(files, tables), where
# `tables` has the lineage of each table as it reads now.
pack_write <- function(archive, ids, from, to, as_of, folder) {
  listed <- archive_find(archive, ids)
  at <- known_at(as_of)
  series <- series_with_former(
    archive, store_series(archive, ids = attr(listed, "numbers")), at
  )
  put <- function(rows, name) {
    file <- paste0(name, ".parquet")
    nanoparquet::write_parquet(
      list_frame(lapply(as.list(rows), function(column) {
        # nanoseconds are rounded; instants go as seconds
        if (inherits(column, "POSIXct")) as.numeric(column) else column
      })),
      file.path(folder, file)
    )
    file
  }
  place <- paste(series$source, series$dataset, sep = "/")
  sets <- unique(place)
  lists <- store_datasets(archive)
  lists <- lists[lists$source %in% series$source, , drop = FALSE]
  lists <- lists[!is.na(match(lists$shape, pack_lists)), , drop = FALSE]
  files <- c(
    put(
      series[c("source", "dataset", "shape", "key", "frequency", "dimensions")],
      "series"
    ),
    vapply(seq_along(sets), function(i) {
      rows <- which(place == sets[i])
      put(
        pack_rows(archive, series[rows, ], rows, from, to, at),
        sprintf("rows-%02d", i)
      )
    }, ""),
    put(pack_attributes(archive, series, at), "attributes"),
    put(pack_records(archive, lists, at), "records"),
    put(pack_types(archive, series, lists), "types"),
    put(pack_labels(archive, unique(series$source)), "labels"),
    put(pack_origins(archive, series), "origins")
  )
  files <- c(files, put(pack_journal(archive, series), "journal"))
  tables <- archive_read(archive, listed$id, from, to, as_of)
  list(
    files = files, ids = listed$id,
    sources = unique(series$source),
    facts = pack_facts(archive, unique(series[c("source", "dataset")])),
    codes = pack_codes(archive, unique(series[c("source", "dataset")])),
    tables = lapply(unname(tables), attr, "lineage")
  )
}

# The rows of the series of a dataset; `numbers` name them.
pack_rows <- function(archive, series, numbers, from, to, at) {
  facts <- dataset_facts(archive, series$source[1], series$dataset[1])
  window <- vapply(c("from", "to"), function(name) {
    day <- list(from = from, to = to)[[name]]
    if (is.null(day)) {
      return(if (name == "from") -Inf else Inf)
    }
    trace_window(series[1, ], day, facts)[if (name == "from") 1 else 2]
  }, 0)
  read <- store_read(
    archive, series$id, window[1], window[2], at,
    newest = FALSE
  )
  c(list(.series = rep(numbers, read$rows) + 0), read$columns)
}

pack_attributes <- function(archive, series, at) {
  rows <- sql_get(
    archive,
    "SELECT series, known, attributes FROM attributes WHERE series IN @numbers
      AND known <= ? ORDER BY series, known",
    list(json_numbers(series$id), at)
  )
  list(
    .series = match(rows$series, series$id) + 0, known = as.numeric(rows$known),
    attributes = as.character(rows$attributes)
  )
}

pack_records <- function(archive, lists, at) {
  parts <- lapply(seq_len(nrow(lists)), function(i) {
    sql_get(
      archive,
      "SELECT source, dataset, shape, key, known, body FROM records WHERE
        source = ? AND dataset = ? AND known <= ? ORDER BY id",
      list(lists$source[i], lists$dataset[i], at)
    )
  })
  do.call(rbind, parts) %||% data.frame(
    source = character(), dataset = character(), shape = character(),
    key = character(), known = numeric(), body = character()
  )
}

pack_types <- function(archive, series, lists) {
  sets <- unique(rbind(
    series[c("source", "dataset")], lists[c("source", "dataset")]
  ))
  rows <- sql_get(archive, "SELECT source, dataset, name, type FROM types")
  rows[
    paste(rows$source, rows$dataset) %in% paste(sets$source, sets$dataset), ,
    drop = FALSE
  ]
}

# Structures of statistics, as the services sent them.
pack_labels <- function(archive, sources) {
  rows <- sql_get(
    archive,
    "SELECT source, url, body FROM structures WHERE source IN @texts AND
      url NOT LIKE 'facts:%' AND url NOT LIKE 'labels:%'",
    list(json_array(sources))
  )
  list(
    source = as.character(rows$source), url = as.character(rows$url),
    body = vapply(rows$body, function(body) {
      jsonlite::base64_enc(memDecompress(body, "gzip"))
    }, "")
  )
}

pack_origins <- function(archive, series) {
  parts <- lapply(seq_len(nrow(series)), function(i) {
    found <- store_origins(archive, series[i, ], -1e18, 1e18)
    if (!is.null(found)) cbind(.series = i + 0, found)
  })
  rows <- do.call(rbind, parts)
  if (is.null(rows)) {
    return(data.frame(.series = numeric(), journal = numeric()))
  }
  rows[order(rows$entry), , drop = FALSE]
}

# The requests that brought the rows.
pack_journal <- function(archive, series) {
  sets <- unique(series[c("source", "dataset")])
  rows <- sql_get(
    archive,
    paste(
      "SELECT id,", paste(journal_columns, collapse = ", "), "FROM journal",
      "ORDER BY id"
    )
  )
  rows <- rows[
    paste(rows$source, rows$dataset) %in% paste(sets$source, sets$dataset), ,
    drop = FALSE
  ]
  for (name in c("symbol", "url", "message")) {
    rows[[name]] <- as.character(rows[[name]])
  }
  for (name in c("id", "asked", "seconds", "status", "bytes", "rows")) {
    rows[[name]] <- as.numeric(rows[[name]])
  }
  rows
}

# Facts of datasets as plain texts; calendars are made again from their cards.
pack_facts <- function(archive, sets) {
  lapply(seq_len(nrow(sets)), function(i) {
    facts <- dataset_facts(archive, sets$source[i], sets$dataset[i])
    list(
      source = sets$source[i], dataset = sets$dataset[i], zone = facts$zone,
      calendar = facts$calendar$name, delay = facts$delay$iso,
      title = facts$title,
      unit = if (length(facts$unit)) as.list(facts$unit)
    )
  })
}

# Code lists as texts: what R has serialised is not read from strangers.
pack_codes <- function(archive, sets) {
  parts <- lapply(seq_len(nrow(sets)), function(i) {
    codes <- archive_labels(archive, sets$source[i], sets$dataset[i])
    if (length(codes)) {
      list(
        source = sets$source[i], dataset = sets$dataset[i],
        codes = lapply(codes, function(list) {
          list(
            id = I(list$id), parent = I(list$parent),
            labels = lapply(list$labels, I)
          )
        })
      )
    }
  })
  Filter(length, parts)
}

pack_read_codes <- function(archive, entries) {
  texts <- function(x) {
    vapply(x, function(one) as.character(one %||% NA), "", USE.NAMES = FALSE)
  }
  for (entry in entries) {
    archive_codes_put(
      archive, entry$source, entry$dataset,
      lapply(entry$codes, function(list) {
        list(
          id = texts(list$id), parent = texts(list$parent),
          labels = lapply(list$labels, texts)
        )
      })
    )
  }
}

# Reads the parts of a pack into an archive. `calendars` are those of sources,
# by name.
pack_read <- function(archive, folder, manifest, calendars = list()) {
  get <- function(name) {
    as.list(nanoparquet::read_parquet(file.path(folder, name)))
  }
  series <- list_frame(get("series.parquet"))
  store_transaction(archive, function() {
    for (i in seq_along(get("types.parquet")[[1]])) {
      row <- lapply(get("types.parquet"), `[`, i)
      sql_do(
        archive, "INSERT INTO types VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
        unname(row[c("source", "dataset", "name", "type")])
      )
    }
    ids <- vapply(seq_len(nrow(series)), function(i) {
      sql_series_ids(archive, as.list(series[i, c(
        "source", "dataset", "shape"
      )]), series[i, ])
    }, 0)
    for (file in grep("^rows-", manifest$files, value = TRUE)) {
      pack_read_rows(archive, get(file), ids)
    }
    rows <- get("attributes.parquet")
    if (length(rows$known)) {
      sql_append(archive, "attributes", list(
        series = ids[rows$.series], known = rows$known,
        attributes = rows$attributes
      ))
    }
    rows <- get("records.parquet")
    if (length(rows$key)) sql_append(archive, "records", rows)
    for (at in split(seq_along(rows$key), paste(rows$source, rows$dataset))) {
      former_note(
        archive, rows$source[at[1]], rows$dataset[at[1]], unique(rows$key[at])
      )
    }
    rows <- get("labels.parquet")
    for (i in seq_along(rows$url)) {
      store_structure_put(
        archive, rows$source[i], rows$url[i], NA, NA,
        jsonlite::base64_dec(rows$body[i])
      )
    }
    rows <- get("journal.parquet")
    if (length(rows$id)) sql_append(archive, "journal", rows)
    pack_read_origins(archive, get("origins.parquet"), ids)
    sql_numbers_go_on(archive)
    pack_read_codes(archive, manifest$codes)
    for (facts in manifest$facts) {
      unit <- unlist(facts$unit)
      dataset_facts_put(archive, facts$source, facts$dataset, list(
        zone = facts$zone, calendar = calendars[[facts$source]],
        delay = if (!is.null(facts$delay)) time_interval(facts$delay),
        title = facts$title, unit = unit
      ))
    }
  })
  sql_forget_caches(archive)
  store_settle(archive, ids_of_all(archive))
  invisible()
}

ids_of_all <- function(archive) sql_get(archive, "SELECT id FROM series")$id

pack_read_rows <- function(archive, rows, ids) {
  of <- ids[rows$.series]
  columns <- rows[setdiff(names(rows), ".series")]
  columns$time <- utc(columns$time)
  columns$known <- utc(columns$known %||% rep(NA_real_, length(of)))
  for (at in split(seq_along(of), of)) {
    part <- lapply(columns, `[`, at)
    for (piece in segment_pieces(part$time)) {
      sql_insert_segment(
        archive, of[at[1]], lapply(part, `[`, piece), 9L,
        thorough = TRUE
      )
    }
  }
}

pack_read_origins <- function(archive, rows, ids) {
  for (i in seq_along(rows$.series)) {
    place <- rows$place[i]
    at <- sub("^.*[|]", "", place)
    ends <- ranges_numbers(at)
    even <- length(unique(diff(ends))) < 2 && !0 %in% diff(ends)
    whole <- !is.finite(rows$since[i]) && !is.finite(rows$until[i])
    runs <- if (!whole) {
      block_write(list(
        time = utc(rows$first[i]), last = rows$last[i], since = rows$since[i],
        until = rows$until[i], series = ids[rows$.series[i]],
        from = if (even) ends[1] else NA_real_,
        to = if (even) ends[length(ends)] else NA_real_,
        step = max(1, abs(ends[2] - ends[1]), na.rm = TRUE),
        steps = if (even) NA_character_ else number_steps(ends)
      ))
    }
    sql_do(
      archive,
      "INSERT INTO origins (journal, series, first, last, place, hash, runs)
      VALUES (?, ?, ?, ?, ?, ?, ?)",
      list(
        rows$journal[i], if (whole) ids[rows$.series[i]] else NA_real_,
        rows$first[i], rows$last[i],
        if (whole) place else sub("[|][^|]*$", "", place),
        rows$hash[i], list(runs)
      )
    )
  }
}
