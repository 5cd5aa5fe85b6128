# Checksums of the rows in the column store: for each series and month (of days
# and longer: year) the number of its rows and the sum, modulo 2^64, of a hash a
# row (row-sums.cpp). They are counted from the rows that go over and kept in
# the catalogue's table `checksums`; the column store counts the same of the
# rows it has. Months and years are those of partitions: equal parts of the
# time since 1970.
#
# `next_rows` and `next_hash` are what a move in progress leads to. After a stop
# either may be there, and the column store tells which.

columns_part_micros <- c("2629746000000", "31556952000000")

# `wide` is 1 for days and longer.
part_of_time <- function(time, wide) {
  trunc(time * 1e6 / as.numeric(columns_part_micros)[wide + 1])
}

part_bounds <- function(part, wide) {
  length <- as.numeric(columns_part_micros)[wide + 1] / 1e6
  # the part 0 reaches to both sides of 1970
  list(
    from = ifelse(part > 0, part, part - 1) * length,
    to = ifelse(part < 0, part, part + 1) * length
  )
}

is_wide <- function(frequency) as.numeric(!startsWith(frequency, "PT"))

# The number of a column, part of the hash of its cells.
columns_salt <- function(names) {
  sums_joined_cpp(
    vapply(substr(cli::hash_md5(names), 1, 8), function(hex) {
      sprintf("%.0f", as.numeric(paste0("0x", hex)))
    }, "", USE.NAMES = FALSE), rep("0", length(names)), FALSE
  )
}

# The checksums of rows: series, part, rows, hash.
rows_sums <- function(of, rows, wide) {
  values <- c(
    list(time = as.double(rows$time), known = instants_or_first(rows)),
    columns_values(rows)
  )
  types <- vapply(names(values), columns_type, "")
  kinds <- c(Int64 = "instant", Float64 = "number", "Nullable(String)" = "text")
  coded <- lapply(values, function(column) {
    if (!is.character(column)) {
      return(column)
    }
    texts <- unique(column[!is.na(column)])
    list(match(column, texts), cli::hash_md5(enc2utf8(texts)))
  })
  sums <- row_sums_cpp(
    as.double(of), part_of_time(values$time, wide), unname(coded),
    unname(kinds[types]), columns_salt(names(values))
  )
  list_frame(
    list(
      series = sums$series, part = sums$part, rows = sums$rows, hash = sums$sum
    )
  )
}

# The same hash of a row as an expression of the column store.
columns_row_hash <- function(names) {
  salt <- columns_salt(names)
  cells <- vapply(seq_along(names), function(i) {
    name <- names[i]
    type <- columns_type(name)
    bits <- if (endsWith(type, "(String)")) {
      paste0(
        "reinterpretAsUInt64(substring(MD5(assumeNotNull(", name, ")), 1, 8))"
      )
    } else {
      paste0("reinterpretAsUInt64(reinterpretAsString(", name, "))")
    }
    cell <- paste0("intHash64(bitXor(", bits, ", toUInt64(", salt[i], ")))")
    absent <- if (type == "Float64") {
      paste0("isNaN(", name, ")")
    } else if (type == "Int64") {
      paste0(name, " = ", columns_no_instant)
    } else {
      paste0("isNull(", name, ")")
    }
    paste0("if(", absent, ", toUInt64(0), ", cell, ")")
  }, "")
  paste0("intHash64(", paste(cells, collapse = " + "), ")")
}

# The checksums of what the column store has, of two equal keys the later row.
columns_sums <- function(columns, shape, wide, condition) {
  names <- setdiff(
    columns_present(columns, shape), c("series", "stamp", "wide")
  )
  if (!length(names)) {
    return(list_frame(list(
      series = numeric(), part = numeric(), rows = numeric(), hash = character()
    )))
  }
  got <- columns_get(
    columns,
    # of signed numbers, so that times before 1970 have negative parts
    # no column has names like these (columns_name())
    "SELECT series, toInt32(intDiv(time, toInt64(",
    columns_part_micros[wide + 1], "))) AS part__, count() AS rows__, ",
    "toString(sum(", columns_row_hash(names), ")) AS hash__ FROM ",
    columns_table(columns, shape), " FINAL WHERE wide = ", wide, " AND ",
    condition, " GROUP BY series, part__"
  )
  list_frame(list(
    series = as.numeric(got$series), part = as.numeric(got$part__),
    rows = as.numeric(got$rows__), hash = as.character(got$hash__)
  ))
}

# Whether the catalogue keeps checksums: an archive of an earlier form does not.
keeps_sums <- function(store) as.numeric(sql_meta(store, "version")) >= 4

sums_kept <- function(store, ids) {
  sql_get(
    store,
    "SELECT series, part, rows, hash, next_rows, next_hash FROM checksums WHERE
    series IN @numbers",
    list(json_numbers(ids))
  )
}

# The checksums after rows have gone over: what is kept, less the rows that are
# replaced, and the new ones. Written as the next ones before they go.
sums_begin <- function(store, shape, of, rows, wide) {
  if (!keeps_sums(store)) {
    return(NULL)
  }
  new <- rows_sums(of, rows, wide)
  ids <- unique(new$series)
  sums_take(store, ids)
  kept <- sums_kept(store, ids)
  at <- match_pairs(new$series, new$part, kept$series, kept$part)
  base <- old <- list_frame(list(
    rows = ifelse(is.na(at), 0, kept$rows[at]),
    hash = ifelse(is.na(at), "0", kept$hash[at])
  ))
  moved <- sql_get(
    store, "SELECT series, first, last FROM moved WHERE series IN @numbers",
    list(json_numbers(ids))
  )
  # rows may be there: those of a move that stopped, or within what is there
  time <- as.double(rows$time)
  where <- match(of, moved$series)
  within <- which(time >= moved$first[where] & time <= moved$last[where])
  ask <- (!is.na(at) & !is.na(kept$next_rows[at])) |
    new$series %in% of[within]
  for (some in split(which(ask), wide[match(new$series[ask], of)])) {
    there <- sums_there(store, shape, of, rows, wide, new[some, ])
    pending <- kept[at[some], ]
    is_next <- !is.na(pending$next_rows) &
      there$rows == pending$next_rows & there$hash == pending$next_hash
    base$rows[some][is_next] <- pending$next_rows[is_next]
    base$hash[some][is_next] <- pending$next_hash[is_next]
    old$rows[some] <- base$rows[some] - there$replaced_rows
    old$hash[some] <- sums_joined_cpp(
      base$hash[some], there$replaced_hash, TRUE
    )
  }
  to <- list_frame(list(
    series = new$series, part = new$part,
    rows = old$rows + new$rows,
    hash = sums_joined_cpp(old$hash, new$hash, FALSE)
  ))
  sql_do(
    store,
    "INSERT INTO checksums (series, part, rows, hash, next_rows, next_hash)
    VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (series, part) DO UPDATE SET
    rows = excluded.rows, hash = excluded.hash,
    next_rows = excluded.next_rows, next_hash = excluded.next_hash",
    list(to$series, to$part, base$rows, base$hash, to$rows, to$hash)
  )
  to
}

# The checksums of series whose rows went over before they were kept: of the
# rows as they are.
sums_take <- function(store, ids = NULL) {
  if (!keeps_sums(store)) {
    return(invisible())
  }
  bare <- sql_get(
    store,
    paste(
      "SELECT m.series, s.shape, s.frequency FROM moved m JOIN series s ON
      s.id = m.series WHERE NOT EXISTS (SELECT 1 FROM checksums c WHERE
      c.series = m.series)", if (length(ids)) "AND m.series IN @numbers"
    ),
    if (length(ids)) list(json_numbers(ids))
  )
  wide <- is_wide(bare$frequency)
  for (some in split(seq_len(nrow(bare)), paste(bare$shape, wide))) {
    for (piece in split(some, (seq_along(some) - 1) %/% 5000)) {
      there <- columns_sums(
        store$columns, bare$shape[some[1]], wide[some[1]],
        columns_where(bare$series[piece])
      )
      sql_do(
        store,
        "INSERT INTO checksums (series, part, rows, hash) VALUES (?, ?, ?, ?)
        ON CONFLICT (series, part) DO NOTHING",
        unname(as.list(there))
      )
    }
  }
}

# What the column store has in some parts of series, and of that the rows that
# are replaced.
sums_there <- function(store, shape, of, rows, wide, parts) {
  columns <- store$columns
  width <- wide[match(parts$series[1], of)]
  ids <- unique(parts$series)
  if (!length(columns_present(columns, shape))) {
    return(list_frame(list(
      rows = rep(0, nrow(parts)), hash = rep("0", nrow(parts)),
      replaced_rows = rep(0, nrow(parts)), replaced_hash = rep("0", nrow(parts))
    )))
  }
  bounds <- part_bounds(range(parts$part), width)
  there <- columns_sums(
    columns, shape, width, columns_where(ids, bounds$from[1], bounds$to[2])
  )
  at <- match_pairs(parts$series, parts$part, there$series, there$part)
  mine <- which(of %in% ids)
  read <- columns_read(
    columns, shape, ids, min(as.double(rows$time)[mine]),
    max(as.double(rows$time)[mine]) + 1e-6,
    newest = FALSE
  )
  key <- function(series, rows) {
    paste(
      series, format_exact(rows$time), format_exact(instants_or_first(rows))
    )
  }
  same <- which(
    key(read$series, read$columns) %in%
      key(of[mine], lapply(rows[c("time", "known")], `[`, mine))
  )
  replaced <- rows_sums(
    read$series[same], lapply(read$columns, `[`, same),
    rep(width, length(same))
  )
  gone <- match_pairs(
    parts$series, parts$part, replaced$series, replaced$part
  )
  list_frame(list(
    rows = ifelse(is.na(at), 0, there$rows[at]),
    hash = ifelse(is.na(at), "0", there$hash[at]),
    replaced_rows = ifelse(is.na(gone), 0, replaced$rows[gone]),
    replaced_hash = ifelse(is.na(gone), "0", replaced$hash[gone])
  ))
}

# The next checksums are those of now, for series of which all rows went over.
sums_end <- function(store, to, ids) {
  if (!NROW(to)) {
    return(invisible())
  }
  sql_do(
    store,
    "UPDATE checksums SET rows = next_rows, hash = next_hash, next_rows = NULL,
    next_hash = NULL WHERE series IN @numbers AND next_rows IS NOT NULL",
    list(json_numbers(intersect(unique(to$series), ids)))
  )
}

# Series and parts whose rows in the column store are others than those that
# went there, one query for a partition: a data frame of series, part, wide,
# rows, found, why.
sums_against <- function(store) {
  if (!keeps_sums(store)) {
    return(NULL)
  }
  kept <- sql_get(
    store,
    "SELECT c.series, c.part, c.rows, c.hash, c.next_rows, c.next_hash, s.shape,
    s.frequency FROM checksums c JOIN series s ON s.id = c.series"
  )
  kept$wide <- is_wide(kept$frequency)
  groups <- split(seq_len(nrow(kept)), paste(kept$shape, kept$wide))
  against <- lapply(groups, function(rows) {
    part <- kept[rows, ]
    there <- sums_of_partitions(store, part)
    at <- match_pairs(part$series, part$part, there$series, there$part)
    rows <- ifelse(is.na(at), 0, there$rows[at])
    hash <- ifelse(is.na(at), "0", there$hash[at])
    right <- (rows == part$rows & hash == part$hash) |
      (!is.na(part$next_rows) & rows == part$next_rows &
        hash == part$next_hash)
    extra <- which(
      there$series %in% part$series &
        is.na(match_pairs(there$series, there$part, part$series, part$part))
    )
    data.frame(
      series = c(part$series[!right], there$series[extra]),
      part = c(part$part[!right], there$part[extra]),
      wide = rep(part$wide[1], sum(!right) + length(extra)),
      rows = c(part$rows[!right], rep(0, length(extra))),
      found = c(rows[!right], there$rows[extra])
    )
  })
  all <- do.call(rbind, unname(against))
  if (NROW(all)) {
    all$why <- ifelse(
      all$found < all$rows, "removed",
      ifelse(all$found > all$rows, "added", "altered")
    )
    all[order(all$series, all$part), ]
  }
}

# A partition is a month, or a decade of years.
sums_of_partitions <- function(store, kept) {
  wide <- kept$wide[1]
  more <- if (wide == 1) 9 else 0
  parts <- lapply(unique(trunc(kept$part / (more + 1))), function(number) {
    first <- number * (more + 1)
    bounds <- part_bounds(
      c(first - more * (number <= 0), first + more * (number >= 0)), wide
    )
    columns_sums(
      store$columns, kept$shape[1], wide,
      columns_times(bounds$from[1], bounds$to[2])
    )
  })
  all <- do.call(rbind, parts)
  all[all$series %in% kept$series, ]
}

# The words of a finding: the rows of a stretch of time.
sums_finding <- function(against) {
  bounds <- part_bounds(against$part, against$wide)
  days <- paste(
    "from", format(local_day(utc(bounds$from), "UTC")), "to",
    format(local_day(utc(bounds$to - 1), "UTC"))
  )
  counted <- paste0(
    thousands(against$rows), " went there, ", thousands(against$found),
    " are there"
  )
  paste0(
    "has rows in the column store that were ",
    ifelse(
      against$why == "altered", "altered",
      paste0(against$why, " (", counted, ")")
    ),
    ", ", days
  )
}
