# Bars resampled by the column store, so that few rows are transferred. It
# counts in cells of a fixed length that divides all bucket edges, and then
# combines the cells of a bucket.

# The number of cells in a query, and of groups of series and cells that it
# keeps in memory.
columns_cells <- 5000
columns_groups <- 1e6

#' @export
store_outline.vetusta_store_columns <- function(store, series, from = -Inf,
                                                to = Inf, at = Inf) {
  window <- list(json_numbers(series), to, from)
  moved <- sql_get(
    store,
    "SELECT m.series, s.shape FROM moved m JOIN series s ON s.id = m.series
    WHERE m.series IN @numbers AND m.first < ? AND m.last >= ?",
    window
  )
  if (!nrow(moved)) {
    return(NULL)
  }
  columns_note(store)
  columns <- store$columns
  present <- columns_present(columns, moved$shape[1])
  # numbers stored as text, and releases, need the rows themselves
  odd <- grepl(
    "^(open|high|low|close|volume|vwap|released|status|session)__", present
  ) &
    !present %in% c("status__text", "session__text", "released__instant")
  if (any(odd)) {
    return(NULL)
  }
  summary <- columns_get(
    columns, "SELECT count() AS n, min(time) AS first, max(time) AS last, ",
    if ("session__text" %in% present) {
      "countIf(isNotNull(session__text))"
    } else {
      "0"
    },
    " AS sessions, ",
    if ("released__instant" %in% present) {
      paste0("countIf(released__instant != ", columns_no_instant, ")")
    } else {
      "0"
    },
    " AS released", " FROM ", columns_table(columns, moved$shape[1]),
    " WHERE ", columns_where(moved$series, from, to, at)
  )
  if (!isTRUE(summary$n > 0) || summary$released > 0) {
    return(NULL)
  }
  here <- sql_get(
    store,
    "SELECT min(first) AS first, max(last) AS last FROM segments
    WHERE series IN @numbers AND first < ? AND last >= ?",
    window
  )
  here <- if (!is.na(here$first)) c(max(here$first, from), min(here$last, to))
  list(
    first = min(summary$first, here[1]),
    last = max(summary$last, here[2]),
    sessions = summary$sessions > 0,
    here = here
  )
}

# Rows outside the range `without`, by series (position) and bucket. `cells` has
# the number and the bucket of cells of `unit` microseconds, counted from
# `origin`, and the lowest and highest cell (the one after the last). Returns
# columns: series, bucket, count, first, last (times), open, high, low, close,
# volume, value and weight (of the closes, by volume), own_value, own_weight and
# own_count (of the bars' own means), provisional.
store_resample <- function(store, series, from, to, at, cells, without,
                           sessions = NULL) {
  moved <- sql_get(
    store,
    "SELECT m.series, s.shape, m.times FROM moved m
    JOIN series s ON s.id = m.series WHERE m.series IN @numbers AND m.first < ?
    AND m.last >= ?",
    list(json_numbers(series), to, from)
  )
  columns <- store$columns
  shape <- moved$shape[1]
  known <- columns_present(columns, shape)
  count <- function() {
    counts <- columns_get(
      columns, "SELECT series, count() AS n FROM ",
      columns_table(columns, shape), " WHERE ", columns_where(moved$series),
      " GROUP BY series"
    )
    counts$n[match(moved$series, counts$series)]
  }
  rows <- count()
  short <- is.na(rows) | rows < moved$times
  if (any(short)) {
    columns_lost(
      columns,
      paste(
        thousands(sum(moved$times[short])), "times went there, and",
        thousands(sum(rows[short], na.rm = TRUE)), "rows are found"
      )
    )
  }
  size <- max(
    1, min(10000, floor(columns_groups / max(columns_pieces(cells)$weight)))
  )
  make <- function(ids, twice) {
    parts <- lapply(split(ids, (seq_along(ids) - 1) %/% size), function(some) {
      columns_resample(
        columns, shape, known, some, from, to, at, cells, without, sessions,
        twice
      )
    })
    unlist(unname(parts), recursive = FALSE)
  }
  # if there are as many rows as times, no row is stored twice, unless rows
  # arrived meanwhile
  plain <- rows == moved$times
  once <- make(moved$series[plain], FALSE)
  if (length(once)) {
    late <- count() != rows
    once <- lapply(
      once,
      function(part) lapply(part, `[`, !part$series %in% moved$series[late])
    )
    plain <- plain & !late
  }
  all <- as.list(
    data.table::rbindlist(c(once, make(moved$series[!plain], TRUE)))
  )
  if (!length(all)) {
    all <- lapply(stats::setNames(nm = columns_made), function(name) numeric())
  }
  all$series <- match(all$series, series)
  all
}

columns_made <- c(
  "series", "bucket", "count", "first", "last", "open", "high", "low", "close",
  "volume", "value", "weight", "own_value", "own_weight", "own_count",
  "provisional", "known"
)

# The ranges between bucket starts: the first cell of each, its number of named
# cells, and the first cell of all.
columns_pieces <- function(cells) {
  start <- c(
    cells$lowest, cells$cell[!duplicated(cells$bucket) & cells$bucket > 1]
  )
  start <- sort(unique(start))
  list(
    start = start,
    weight = tabulate(findInterval(cells$cell, start), length(start))
  )
}

# Some series, in queries of limited size.
columns_resample <- function(columns, shape, known, ids, from, to, at, cells,
                             without, sessions, twice) {
  pieces <- columns_pieces(cells)
  most <- min(columns_cells, columns_groups / length(ids))
  # rows with duplicates are sorted, in smaller queries
  if (twice) most <- max(1, most / 10)
  chunk <- floor((cumsum(pieces$weight) - pieces$weight) / most)
  first <- pieces$start[!duplicated(chunk)]
  edge <- cells$origin + c(first, cells$highest) * cells$unit
  parts <- lapply(seq_along(first), function(i) {
    low <- max(edge[i], from * 1e6)
    high <- min(edge[i + 1], to * 1e6)
    inside <- low >= without[1] * 1e6 && high <= without[2] * 1e6
    if (low >= high || inside) {
      return(NULL)
    }
    within <- cells$cell >= first[i] &
      cells$cell < c(first, cells$highest)[i + 1]
    statement <- columns_resample_query(
      columns, shape, known,
      columns_where(ids, low / 1e6, high / 1e6, at, without), edge[i],
      list(
        cell = cells$cell[within] - first[i],
        bucket = cells$bucket[within],
        unit = cells$unit
      ),
      sessions, twice
    )
    columns_get(columns, statement)
  })
  parts[lengths(parts) > 0]
}

# The aggregates of each series and bucket. Sums use the rows that have a
# number; bucket 0 is for rows outside all cells.
columns_resample_query <- function(columns, shape, known, where, edge, cells,
                                   sessions, twice) {
  number <- function(name) if (name %in% known) name else paste("nan AS", name)
  text <- function(name, or, as) {
    column <- paste0(name, "__text")
    paste0(
      if (column %in% known) {
        paste0("ifNull(", column, ", '", or, "')")
      } else {
        paste0("'", or, "'")
      },
      " AS ", as
    )
  }
  rows <- paste0(
    "SELECT series, time, known, stamp, ",
    paste(
      vapply(c("open", "high", "low", "close", "volume", "vwap"), number, ""),
      collapse = ", "
    ),
    ", ", text("status", "observed", "state"), ", ",
    text("session", "", "part"), " FROM ", columns_table(columns, shape),
    " WHERE ", where
  )
  if (twice) {
    rows <- paste0(
      rows,
      " ORDER BY series, time, known DESC, stamp DESC LIMIT 1 BY series, time"
    )
  }
  kept <- paste0(
    "state != 'deleted'",
    if (length(sessions)) {
      paste0(
        " AND part IN (", paste(columns_text(sessions), collapse = ", "), ")"
      )
    }
  )
  priced <- function(price) {
    paste0("not isNaN(", price, ") AND not isNaN(volume)")
  }
  within_cells <- paste0(
    "SELECT series, intDiv(time - ", sprintf("%.0f", edge), ", ",
    sprintf("%.0f", cells$unit),
    ") AS cell, count() AS n, min(time) AS earliest, ",
    "max(time) AS latest, ",
    columns_corners(
      c("open", "high", "low", "close"), "time", c("o", "h", "l", "c")
    ),
    ", sumIf(volume, not isNaN(volume)) AS v, countIf(not ",
    "isNaN(volume)) AS volumes, ", "sumIf(close * volume, ", priced("close"),
    ") AS paid, sumIf(volume, ", priced("close"),
    ") AS over, sumIf(vwap * volume, ", priced("vwap"),
    ") AS own_paid, sumIf(volume, ", priced("vwap"),
    ") AS own_over, countIf(not isNaN(vwap)) AS own, ",
    "countIf(state = 'provisional') AS unsettled, max(known) AS newest FROM (",
    rows, ") WHERE ", kept, " GROUP BY series, cell"
  )
  listed <- function(numbers) {
    paste0("[", paste(sprintf("%.0f", numbers), collapse = ","), "]")
  }
  paste0(
    "SELECT series, toUInt32(transform(cell, ", listed(cells$cell), ", ",
    listed(cells$bucket), ", 0)) AS bucket, ",
    "sum(n) AS count, min(earliest) AS first, max(latest) AS last, ",
    columns_corners(
      c("o", "h", "l", "c"), "cell", c("open", "high", "low", "close")
    ),
    ", if(sum(volumes) > 0, sum(v), nan) AS volume, sum(paid) AS ",
    "value, sum(over) AS weight, ",
    "sum(own_paid) AS own_value, sum(own_over) AS own_weight, ",
    "sum(own) AS own_count, ",
    "sum(unsettled) AS provisional, max(newest) AS known FROM (", within_cells,
    ") GROUP BY series, bucket"
  )
}

# The first, largest, smallest and last of four columns without missing values.
columns_corners <- function(from, by, to) {
  end <- "toInt64(9000000000000000000)"
  paste0(
    c("argMin(", "argMax(", "argMin(", "argMax("), from, ", if(isNaN(", from,
    "), ", c(end, "-inf", "inf", paste0("-", end)), ", ", c(by, from[2:3], by),
    ")) AS ", to,
    collapse = ", "
  )
}

# Texts quoted for a statement.
columns_text <- function(x) paste0("'", gsub("(['\\\\])", "\\\\\\1", x), "'")
