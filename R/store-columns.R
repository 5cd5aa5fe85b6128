# Rows of series in a column store, beside a catalogue in SQLite or PostgreSQL.
# The catalogue takes each page as usual; when enough rows have gathered, its
# segments are moved in one large insert.
#
# Each page is stored exactly once: rows are inserted first, in a repeatable
# form (of two rows with equal series, time and since the later one counts), and
# only then the catalogue removes its segments, in one transaction. A stop
# between the two leaves rows in both places; they are read as one and moved
# again. The catalogue's table `moved` records the range and the number of times
# of each series in the column store.

# Rows that gather before they are moved, and rows in one insert.
columns_gather <- 500000
columns_batch <- 1000000
columns_oldest <- c(18, 16)

# The store of a catalogue with a column store. The catalogue records its URI,
# so that it is never read without it.
columns_join <- function(store, uri = NULL) {
  password <- attr(uri, "password")
  uri <- if (!is.null(uri)) as.character(uri)
  state <- sql_meta(store, "columns")
  state <- if (length(state)) jsonlite::fromJSON(state)
  if (is.null(state) && is.null(uri)) {
    return(store)
  }
  parts <- columns_uri(uri %||% state$uri)
  if (!is.null(state) &&
    !is.null(uri) &&
    !identical(columns_place(columns_uri(state$uri)), columns_place(parts))) {
    vetusta_stop(
      "archive",
      paste0(
        "The archive's rows are in another column store: ",
        database_named(state$uri), "."
      ),
      where = database_named(uri),
      todo = paste0(
        "give that one; or copy the archive first: vetusta archive ",
        "copy FROM TO"
      )
    )
  }
  columns <- new.env(parent = emptyenv())
  columns$servers <- parts$servers
  columns$database <- parts$database
  columns$cluster <- parts$cluster
  columns$user <- parts$user
  secret <- password %||% Sys.getenv("COLUMNS_PASSWORD")
  columns$password <- if (nzchar(secret)) function() secret
  columns$uri <- uri %||% state$uri
  columns$known <- list()
  columns$replicated <- list()
  columns$process <- Sys.getpid()
  # several archives may share a database
  columns$key <- state$key %||%
    substr(
      content_hash(charToRaw(paste(store$path, now_seconds(), Sys.getpid()))),
      1, 8
    )
  columns$noted <- !is.null(state)
  columns_check_server(columns)
  store$columns <- columns
  class(store) <- c("vetusta_store_columns", class(store))
  store
}

# Recorded with the first rows; another process may have done so.
columns_note <- function(store) {
  columns <- store$columns
  if (columns$noted) {
    return(invisible())
  }
  state <- sql_meta(store, "columns")
  if (length(state)) {
    columns$key <- jsonlite::fromJSON(state)$key
  } else {
    sql_meta_put(
      store, "columns",
      as.character(
        jsonlite::toJSON(
          list(uri = columns$uri, key = columns$key),
          auto_unbox = TRUE
        )
      )
    )
  }
  columns$noted <- TRUE
}

columns_place <- function(parts) parts[c("database", "cluster")]

columns_check_server <- function(columns) {
  version <- rawToChar(columns_send(columns, "SELECT version()"))
  numbers <- suppressWarnings(as.numeric(strsplit(version, "[.]")[[1]]))
  if (is.na(numbers[1]) || numbers[1] < columns_oldest[1]) {
    vetusta_stop(
      "archive",
      paste0(
        "The column store is of the version ", trimws(version),
        ", which is too old."
      ),
      where = columns$servers[1], todo = "use 18.16 or newer"
    )
  }
  columns$version <- numbers
  count <- columns_get(
    columns, "SELECT count() AS n FROM system.databases WHERE name = '",
    columns$database, "'"
  )$n
  if (!identical(count, 1)) {
    columns_stop(columns, columns$servers[1], "Code: 81")
  }
  if (!is.null(columns$cluster)) {
    shards <- columns_get(
      columns, "SELECT uniqExact(shard_num) AS n FROM system.clusters ",
      "WHERE cluster = '", columns$cluster, "'"
    )$n
    if (!isTRUE(shards > 0)) {
      known <- columns_get(
        columns, "SELECT DISTINCT cluster FROM system.clusters"
      )$cluster
      vetusta_stop(
        "archive",
        paste0("The column store has no cluster \"", columns$cluster, "\"."),
        where = columns$servers[1],
        todo = suggest_word(columns$cluster, as.character(known))
      )
    }
  }
}

# A column's name and type there. Numbers keep their names, other classes are
# marked by an ending, and special characters are written as bytes, so that no
# text of a card is part of a statement.
columns_name <- function(name, column) {
  ending <- if (inherits(column, "POSIXct")) {
    "__instant"
  } else if (inherits(column, "Date")) {
    "__day"
  } else if (is.logical(column)) {
    "__flag"
  } else if (is.numeric(column)) {
    ""
  } else {
    "__text"
  }
  plain <- grepl("^[A-Za-z][A-Za-z0-9_]*$", name) &&
    !grepl("__", name, fixed = TRUE)
  paste0(
    if (plain) {
      name
    } else {
      paste0("x", paste(charToRaw(enc2utf8(name)), collapse = ""), "__x")
    },
    ending
  )
}

columns_type <- function(name) {
  if (name %in% c("time", "known") || endsWith(name, "__instant")) {
    "Int64"
  } else if (endsWith(name, "__text")) {
    "Nullable(String)"
  } else {
    "Float64"
  }
}

# The value of a missing instant.
columns_no_instant <- "-9223372036854775808"

columns_default <- function(name) {
  switch(columns_type(name),
    Int64 = paste(" DEFAULT", columns_no_instant),
    Float64 = " DEFAULT nan",
    ""
  )
}

# The class that the ending of a name stands for.
columns_classes <- list(
  instant = function(column) utc(column),
  day = function(column) epoch_days(column),
  flag = as.logical
)

# The original name and class of a column.
columns_back <- function(columns) {
  ending <- sub("^.*__", "", names(columns))
  ending[!grepl("__(instant|day|flag|text)$", names(columns))] <- "number"
  name <- sub("__(instant|day|flag|text)$", "", names(columns))
  coded <- grepl("^x([0-9a-f]{2})+__x$", name)
  name[coded] <- vapply(
    name[coded],
    function(code) {
      hex <- sub("__x$", "", substring(code, 2))
      at <- seq(1, nchar(hex), 2)
      text <- rawToChar(as.raw(strtoi(substring(hex, at, at + 1), 16)))
      Encoding(text) <- "UTF-8"
      text
    },
    ""
  )
  values <- Map(
    function(column, ending) {
      (columns_classes[[ending]] %||% identity)(column)
    },
    columns, paste0(ending, "")
  )
  out <- list()
  for (i in seq_along(values)) {
    if (all(is.na(values[[i]])) && !name[i] %in% time_columns) next
    vector <- out[[name[i]]]
    # a column with different types in different places is text
    out[[name[i]]] <- if (is.null(vector)) {
      values[[i]]
    } else {
      ifelse(is.na(vector), as_text(values[[i]]), as_text(vector))
    }
  }
  out
}

columns_table <- function(columns, shape, everywhere = TRUE) {
  stopifnot(grepl("^[a-z]+$", shape))
  paste0(
    columns$database, ".", shape, "_", columns$key,
    if (everywhere && !is.null(columns$cluster)) "_all"
  )
}

# Creates a shape's table if needed, and adds new columns.
columns_prepare <- function(columns, shape, names) {
  known <- columns$known[[shape]] %||% columns_present(columns, shape)
  if (!length(known)) {
    fixed <- "series UInt32, time Int64, known Int64, stamp UInt64, wide UInt8"
    for (server in columns$servers) {
      columns_do(
        columns,
        paste0(
          "CREATE TABLE IF NOT EXISTS ",
          columns_table(columns, shape, FALSE),
          " (",
          fixed,
          ") ENGINE = ",
          columns_engine(columns, shape, server),
          # partitions are months for values within the day, else decades; a
          # month is a twelfth of a year, counted from 1970, so that earlier
          # times have one too
          paste0(
            " PARTITION BY (wide, intDiv(time, if(wide = 1, ",
            "315569520000000, 2629746000000)))"
          ),
          " ORDER BY (series, time, known)"
        ),
        server
      )
      if (!is.null(columns$cluster)) {
        columns_do(
          columns,
          paste0(
            "CREATE TABLE IF NOT EXISTS ", columns_table(columns, shape), " (",
            fixed, ") ENGINE = Distributed(", columns$cluster, ", ",
            columns$database, ", ", shape, "_", columns$key, ", series)"
          ),
          server
        )
      }
    }
    known <- c("series", "time", "known", "stamp", "wide")
  }
  for (name in setdiff(names, known)) {
    for (server in columns$servers) {
      for (table in unique(
        c(columns_table(columns, shape, FALSE), columns_table(columns, shape))
      )) {
        columns_add(columns, table, name, server)
      }
    }
  }
  columns$known[[shape]] <- union(known, names)
}

columns_add <- function(columns, table, name, server) {
  tryCatch(
    columns_do(
      columns,
      paste0(
        "ALTER TABLE ", table, " ADD COLUMN ", name, " ", columns_type(name),
        columns_default(name)
      ),
      server
    ),
    vetusta_error_archive = function(e) {
      # another process may have added it
      if (!grepl("already exists|Code: 44", e$where)) stop(e)
    }
  )
}

# Replicated where the server has macros for it, which implies a ZooKeeper.
columns_engine <- function(columns, shape, server) {
  macros <- tryCatch(
    rawToChar(
      columns_send(
        columns,
        paste0(
          "SELECT count() FROM system.macros ",
          "WHERE macro IN ('shard', 'replica')"
        ),
        server = server
      )
    ),
    vetusta_error_archive = function(e) "0"
  )
  if (trimws(macros) == "2") {
    paste0(
      "ReplicatedReplacingMergeTree('/vetusta/", columns$database, "/", shape,
      "_", columns$key, "/{shard}', '{replica}', stamp)"
    )
  } else {
    "ReplacingMergeTree(stamp)"
  }
}

columns_present <- function(columns, shape) {
  as.character(
    columns_get(
      columns, "SELECT name FROM system.columns WHERE database = '",
      columns$database, "' AND table = '", shape, "_", columns$key, "'"
    )$name
  )
}
