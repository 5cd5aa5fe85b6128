# Rows of series in a column store, beside a catalogue in SQLite or PostgreSQL. The catalogue takes
# each page, as it always does; when enough has gathered its segments go over in one large insert.
#
# What makes a page exactly once: rows go over first, in a form that may be repeated (of two rows
# with one series, time and since the one that was written last counts), and only then the
# catalogue lets go of its segments, in one transaction. Whatever ends between the two leaves rows in
# both, which are read as one, and go over again. What stands in the column store is told by the
# catalogue's table `moved`: the stretch and the number of times of each series.

# Rows that gather before they go over, and how many go in one insert.
columns_gather <- 500000
columns_batch <- 1000000
columns_oldest <- c(18, 16)

# The store of a catalogue with columns beside it. The catalogue remembers where, so that it is never
# read without them.
columns_join <- function(store, uri = NULL, password = NULL) {
  told <- sql_meta(store, "columns")
  told <- if (length(told)) jsonlite::fromJSON(told)
  if (is.null(told) && is.null(uri)) {
    return(store)
  }
  parts <- columns_uri(uri %||% told$uri)
  if (!is.null(told) && !is.null(uri) && !identical(columns_place(columns_uri(told$uri)),
    columns_place(parts))) {
    vetusta_stop("archive", paste0("The archive's rows stand in another column store: ",
      database_named(told$uri), "."), where = database_named(uri),
      todo = "give that one; or copy the archive first: vetusta archive copy FROM TO")
  }
  columns <- new.env(parent = emptyenv())
  columns$servers <- parts$servers
  columns$database <- parts$database
  columns$cluster <- parts$cluster
  columns$user <- parts$user
  secret <- password %||% (if (nzchar(Sys.getenv("COLUMNS_PASSWORD"))) Sys.getenv(
    "COLUMNS_PASSWORD"))
  columns$password <- if (!is.null(secret)) function() secret
  columns$uri <- uri %||% told$uri
  columns$known <- list()
  # tables of several archives may stand in one database
  columns$key <- told$key %||% substr(content_hash(charToRaw(paste(store$path, now_seconds(),
    Sys.getpid()))), 1, 8)
  columns_check_server(columns)
  if (is.null(told)) {
    sql_meta_put(store, "columns", as.character(jsonlite::toJSON(list(uri = columns$uri,
      key = columns$key), auto_unbox = TRUE)))
  }
  store$columns <- columns
  class(store) <- c("vetusta_store_columns", class(store))
  store
}

columns_place <- function(parts) parts[c("database", "cluster")]

columns_check_server <- function(columns) {
  version <- rawToChar(columns_send(columns, "SELECT version()"))
  numbers <- suppressWarnings(as.numeric(strsplit(version, "[.]")[[1]]))
  if (is.na(numbers[1]) || numbers[1] < columns_oldest[1]) {
    vetusta_stop("archive", paste0("The column store is of the version ", trimws(version),
      ", which is too old."), where = columns$servers[1], todo = "use 18.16 or newer")
  }
  columns$version <- numbers
  found <- columns_get(columns, "SELECT count() AS n FROM system.databases WHERE name = '",
    columns$database, "'")$n
  if (!identical(found, 1)) columns_stop(columns, columns$servers[1], "Code: 81")
  if (!is.null(columns$cluster)) {
    shards <- columns_get(columns, "SELECT uniqExact(shard_num) AS n FROM system.clusters ",
      "WHERE cluster = '", columns$cluster, "'")$n
    if (!isTRUE(shards > 0)) {
      known <- columns_get(columns, "SELECT DISTINCT cluster FROM system.clusters")$cluster
      vetusta_stop("archive", paste0("The column store has no cluster \"", columns$cluster, "\"."),
        where = columns$servers[1], todo = suggest_word(columns$cluster, as.character(known)))
    }
  }
}

# --- tables

# A column's name and type there. Numbers keep their names, other classes are told by an ending, and
# signs that a name cannot have are written as their bytes: nothing of a card stands in a statement.
columns_name <- function(name, column) {
  ending <- if (inherits(column, "POSIXct")) "__instant"
  else if (inherits(column, "Date")) "__day"
  else if (is.logical(column)) "__flag"
  else if (is.numeric(column)) "" else "__text"
  plain <- grepl("^[A-Za-z][A-Za-z0-9_]*$", name) && !grepl("__", name, fixed = TRUE)
  paste0(if (plain) name else paste0("x", paste(charToRaw(enc2utf8(name)), collapse = ""), "__x"),
    ending)
}

columns_type <- function(name) {
  if (name %in% c("time", "since") || endsWith(name, "__instant")) "Int64"
  else if (endsWith(name, "__text")) "Nullable(String)"
  else "Float64"
}

columns_default <- function(name) {
  switch(columns_type(name), Int64 = " DEFAULT -9223372036854775808", Float64 = " DEFAULT nan", "")
}

# Back to the name and class that it had.
columns_back <- function(columns) {
  ending <- sub("^.*__", "", names(columns))
  ending[!grepl("__(instant|day|flag|text)$", names(columns))] <- ""
  name <- sub("__(instant|day|flag|text)$", "", names(columns))
  coded <- grepl("^x([0-9a-f]{2})+__x$", name)
  name[coded] <- vapply(name[coded], function(one) {
    hex <- sub("__x$", "", substring(one, 2))
    at <- seq(1, nchar(hex), 2)
    text <- rawToChar(as.raw(strtoi(substring(hex, at, at + 1), 16)))
    Encoding(text) <- "UTF-8"
    text
  }, "")
  values <- Map(function(column, kind) {
    switch(kind, instant = utc(column), day = as.Date(column, origin = "1970-01-01"),
      flag = as.logical(column), column)
  }, columns, ending)
  out <- list()
  for (i in seq_along(values)) {
    if (all(is.na(values[[i]])) && !name[i] %in% time_columns) next
    held <- out[[name[i]]]
    # numbers in one place and text in another are text
    out[[name[i]]] <- if (is.null(held)) values[[i]]
    else ifelse(is.na(held), as.character(values[[i]]), if (is.double(held)) format_exact(held)
    else as.character(held))
  }
  out
}

columns_table <- function(columns, shape, everywhere = TRUE) {
  stopifnot(grepl("^[a-z]+$", shape))
  paste0(columns$database, ".", shape, "_", columns$key,
    if (everywhere && !is.null(columns$cluster)) "_all")
}

# Makes a shape's table where it is not there, and adds columns that are new.
columns_prepare <- function(columns, shape, names) {
  known <- columns$known[[shape]] %||% columns_held(columns, shape)
  if (!length(known)) {
    fixed <- "series UInt32, time Int64, since Int64, stamp UInt64"
    for (server in columns$servers) {
      columns_do(columns, paste0("CREATE TABLE IF NOT EXISTS ",
        columns_table(columns, shape, FALSE), " (", fixed, ") ENGINE = ",
        columns_engine(columns, shape, server),
        # a month is a twelfth of a year, counted from 1970, so that times before it have one too
        " PARTITION BY intDiv(time, 2629746000000) ORDER BY (series, time, since)"), server)
      if (!is.null(columns$cluster)) {
        columns_do(columns, paste0("CREATE TABLE IF NOT EXISTS ", columns_table(columns, shape),
          " (", fixed, ") ENGINE = Distributed(", columns$cluster, ", ", columns$database, ", ",
          shape, "_", columns$key, ", series)"), server)
      }
    }
    known <- c("series", "time", "since", "stamp")
  }
  for (name in setdiff(names, known)) {
    for (server in columns$servers) {
      for (table in unique(c(columns_table(columns, shape, FALSE), columns_table(columns, shape)))) {
        columns_add(columns, table, name, server)
      }
    }
  }
  columns$known[[shape]] <- union(known, names)
}

columns_add <- function(columns, table, name, server) {
  tryCatch(columns_do(columns, paste0("ALTER TABLE ", table, " ADD COLUMN ", name, " ",
    columns_type(name), columns_default(name)), server), vetusta_error_archive = function(e) {
    # another process may have added it
    if (!grepl("already exists|Code: 44", e$where)) stop(e)
  })
}

# Replicated where the server has macros for it, which says that it has a ZooKeeper.
columns_engine <- function(columns, shape, server) {
  macros <- tryCatch(rawToChar(columns_send(columns, paste0("SELECT count() FROM system.macros ",
    "WHERE macro IN ('shard', 'replica')"), server = server)), vetusta_error_archive = function(e) "0")
  if (trimws(macros) == "2") {
    paste0("ReplicatedReplacingMergeTree('/vetusta/", columns$database, "/", shape, "_",
      columns$key, "/{shard}', '{replica}', stamp)")
  } else {
    "ReplacingMergeTree(stamp)"
  }
}

columns_held <- function(columns, shape) {
  as.character(columns_get(columns, "SELECT name FROM system.columns WHERE database = '",
    columns$database, "' AND table = '", shape, "_", columns$key, "'")$name)
}

# --- rows over, and back

# Rows of several series, in one insert. `of` are the numbers of the series.
columns_insert <- function(columns, shape, of, rows, stamp) {
  others <- rows[setdiff(names(rows), time_columns)]
  names(others) <- unname(mapply(columns_name, names(others), others))
  values <- lapply(others, function(column) {
    if (is.character(column)) column
    else if (is.factor(column)) as.character(column)
    else as.double(column)
  })
  all <- c(list(series = as.double(of), time = as.double(rows$time), since = as.double(rows$since),
    stamp = rep(stamp, length(of))), values)
  columns_prepare(columns, shape, names(values))
  types <- c("UInt32", "Int64", "Int64", "UInt64", vapply(names(values), columns_type, ""))
  body <- native_write_cpp(unname(all), names(all), types)
  columns_send(columns, paste0("INSERT INTO ", columns_table(columns, shape), " (",
    paste(names(all), collapse = ", "), ") FORMAT Native"), body,
    settings = columns_settings(columns))
}

# All of an insert has arrived, at every shard, when it is answered.
columns_settings <- function(columns) {
  c(if (!is.null(columns$cluster)) list(insert_distributed_sync = 1),
    # newer ones refuse inserts over many months
    if (columns$version[1] > 18) list(max_partitions_per_insert_block = 0))
}

# Rows of series within a window: list(series, columns), in order of series, time and since.
columns_read <- function(columns, shape, series, from = -Inf, to = Inf, at = Inf, newest = TRUE) {
  known <- columns$known[[shape]]
  # another process may have added columns
  known <- columns_held(columns, shape)
  if (!length(known)) {
    return(list(series = numeric(), columns = list(time = utc(numeric()), since = utc(numeric()))))
  }
  micros <- function(x) sprintf("%.0f", x * 1e6)
  where <- c(paste0("series IN (", paste(sprintf("%.0f", series), collapse = ","), ")"),
    if (is.finite(from)) paste("time >=", micros(from)),
    if (is.finite(to)) paste("time <", micros(to)),
    if (is.finite(at)) paste("since <=", micros(at)))
  got <- columns_get(columns, "SELECT ", paste(setdiff(known, "stamp"), collapse = ", "), " FROM ",
    columns_table(columns, shape), " WHERE ", paste(where, collapse = " AND "),
    " ORDER BY series, time, since", if (newest) " DESC", ", stamp DESC LIMIT 1 BY series, time",
    if (!newest) ", since")
  rows <- columns_back(got[setdiff(names(got), "series")])
  rows$time <- utc(as.numeric(rows$time))
  rows$since <- utc(as.numeric(rows$since))
  list(series = as.numeric(got$series), columns = rows)
}

# --- the store

#' @export
store_read.vetusta_store_columns <- function(store, series, from = -Inf, to = Inf, at = Inf,
  newest = TRUE) {
  found <- sql_get(store, "SELECT m.series, s.shape FROM moved m JOIN series s ON s.id = m.series
    WHERE m.series IN @numbers AND m.first < ? AND m.last >= ?", list(json_numbers(series), to, from))
  if (!nrow(found)) {
    return(NextMethod())
  }
  here <- sql_get(store, "SELECT DISTINCT series FROM segments WHERE series IN @numbers AND
    first < ? AND last >= ?", list(json_numbers(series), to, from))$series
  parts <- lapply(split(found$series, found$shape), function(ids) {
    # of what stands in both all releases are looked at
    lapply(split(ids, ids %in% here), function(some) {
      columns_read(store$columns, found$shape[match(some[1], found$series)], some, from, to, at,
        newest && !some[1] %in% here)
    })
  })
  parts <- unlist(unname(lapply(parts, unname)), recursive = FALSE)
  if (length(here)) {
    class(store) <- setdiff(class(store), "vetusta_store_columns")
    both <- here %in% found$series
    for (some in split(here, both)) {
      own <- store_read(store, some, from, to, at, newest && !some[1] %in% found$series)
      parts[[length(parts) + 1]] <- list(series = rep(some, own$rows), columns = own$columns)
    }
  }
  columns_together(parts, series, newest, intersect(here, found$series))
}

# Parts as what a store gives; of `mixed` series rows of several parts are laid together.
columns_together <- function(parts, series, newest, mixed) {
  of <- unlist(lapply(parts, `[[`, "series"))
  rows <- if (length(parts) == 1) parts[[1]]$columns
  else as.list(suppressWarnings(data.table::rbindlist(lapply(parts, `[[`, "columns"),
    use.names = TRUE, fill = TRUE)))
  place <- match(of, series)
  time <- as.numeric(rows$time)
  since <- as.numeric(rows$since)
  order <- order(place, time, since, method = "radix")
  keep <- rep(TRUE, length(order))
  if (length(mixed)) {
    n <- length(order)
    a <- order[-n]
    b <- order[-1]
    # the catalogue's own rows came last, and count
    same <- place[a] == place[b] & time[a] == time[b] & (newest | since[a] == since[b])
    keep <- c(!same, TRUE)[seq_len(n)]
  }
  order <- order[keep]
  list(columns = lapply(rows, `[`, order), rows = tabulate(place[order], length(series)))
}

# What stands in the column store of one series within a stretch, or NULL: a page is laid beside it.
#' @export
sql_moved_rows.vetusta_store_columns <- function(store, id, first, last) {
  found <- sql_get(store, "SELECT s.shape FROM moved m JOIN series s ON s.id = m.series
    WHERE m.series = ? AND m.first <= ? AND m.last >= ?", list(id, last, first))
  if (nrow(found)) {
    rows <- columns_read(store$columns, found$shape, id, first, last + 1e-6, newest = FALSE)$columns
    if (length(rows$time)) rows
  }
}

#' @export
store_settle.vetusta_store_columns <- function(store, series = NULL) {
  gathered <- sql_get(store, "SELECT coalesce(sum(1.0 * rows), 0) AS n FROM segments")$n
  if (gathered < columns_gather) {
    return(NextMethod())
  }
  # what cannot go over now goes over later, and is read from the catalogue until then
  tryCatch(columns_shift(store), vetusta_error_archive = function(e) {
    warning(e$what, " ", e$todo, call. = FALSE)
  })
  invisible()
}

#' @export
store_compact.vetusta_store_columns <- function(store) {
  columns_shift(store)
  for (shape in columns_shapes(store)) {
    for (server in store$columns$servers) {
      columns_do(store$columns, paste("OPTIMIZE TABLE", columns_table(store$columns, shape, FALSE)),
        server)
    }
  }
  NextMethod()
}

columns_shapes <- function(store) {
  sql_get(store, "SELECT DISTINCT s.shape FROM moved m JOIN series s ON s.id = m.series")$shape
}

# Moves all segments over, a batch of one shape at a time; one process does it.
columns_shift <- function(store) {
  if (store_claim(store, "columns", Inf) != "ours") {
    return(invisible())
  }
  on.exit(try(store_claims_release(store, "columns"), silent = TRUE))
  repeat {
    found <- sql_get(store, "SELECT g.id, g.series, s.shape, g.rows FROM segments g
      JOIN series s ON s.id = g.series ORDER BY s.shape, g.series, g.first LIMIT 20000")
    found <- found[found$shape == found$shape[1], ]
    found <- found[cumsum(found$rows) - found$rows < columns_batch, ]
    if (!nrow(found)) {
      return(invisible())
    }
    columns_shift_batch(store, found)
  }
}

columns_shift_batch <- function(store, found) {
  read <- sql_get(store, "SELECT id, series, first, last, times, body FROM segments WHERE
    id IN @numbers", list(json_numbers(found$id)))
  read <- read[match(found$id, read$id), ]
  read <- read[!is.na(read$id), ]
  rows <- sql_open_segments(store, read, newest = FALSE)
  columns_insert(store$columns, found$shape[1], rep(read$series, rows$rows), rows$columns,
    floor(store_now(store) * 1e6))
  store_beat(store, "rows into the column store")
  odd <- store_transaction(store, function() {
    for (id in unique(read$series)) sql_hold_series(store, id)
    # what another process wrote anew meanwhile goes over later
    left <- sql_get(store, "SELECT id FROM segments WHERE id IN @numbers",
      list(json_numbers(read$id)))$id
    gone <- read[read$id %in% left, ]
    sql_drop_segments(store, gone$id)
    moved_note(store, gone)
  })
  # where rows lie over each other their times are counted there
  for (some in split(odd, (seq_along(odd) - 1) %/% 1000)) moved_count(store, found$shape[1], some)
}

# Notes what stands there now; gives the series whose number of times is not known by that.
moved_note <- function(store, gone) {
  if (!nrow(gone)) {
    return(numeric())
  }
  each <- function(x, f) as.numeric(tapply(x, factor(gone$series, unique(gone$series)), f))
  ids <- unique(gone$series)
  held <- sql_get(store, "SELECT series, first, last FROM moved WHERE series IN @numbers",
    list(json_numbers(ids)))
  held <- held[match(ids, held$series), ]
  first <- each(gone$first, min)
  last <- each(gone$last, max)
  sql_do(store, "INSERT INTO moved (series, first, last, times) VALUES (?, ?, ?, ?)
    ON CONFLICT (series) DO UPDATE SET
      first = CASE WHEN excluded.first < moved.first THEN excluded.first ELSE moved.first END,
      last = CASE WHEN excluded.last > moved.last THEN excluded.last ELSE moved.last END,
      times = moved.times + excluded.times",
    list(ids, first, last, each(gone$times, sum)))
  ids[!is.na(held$series) & first <= held$last & last >= held$first]
}

moved_count <- function(store, shape, ids) {
  told <- columns_get(store$columns, "SELECT series, uniqExact(time) AS times FROM ",
    columns_table(store$columns, shape), " WHERE series IN (", paste(sprintf("%.0f", ids),
      collapse = ","), ") GROUP BY series")
  sql_do(store, "UPDATE moved SET times = ? WHERE series = ?", list(told$times, told$series))
}

# The catalogue says of each series what stands there; counted there it must be as much.
#' @export
sql_check_more.vetusta_store_columns <- function(store, add) {
  for (shape in columns_shapes(store)) {
    held <- sql_get(store, "SELECT m.series, m.first, m.last, m.times, s.source, s.dataset, s.key,
      s.frequency FROM moved m JOIN series s ON s.id = m.series WHERE s.shape = ?", list(shape))
    told <- columns_get(store$columns, "SELECT series, uniqExact(time) AS times, min(time) AS first, ",
      "max(time) AS last FROM ", columns_table(store$columns, shape), " GROUP BY series")
    at <- match(held$series, told$series)
    lost <- is.na(at) | told$times[at] < held$times | told$first[at] > held$first |
      told$last[at] < held$last
    lost[is.na(lost)] <- TRUE
    add("column", series_address(held[lost, ]), "has fewer rows in the column store than went there",
      TRUE)
  }
}
