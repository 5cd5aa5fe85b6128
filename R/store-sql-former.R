# Symbols that were given to another company. The entry of a directory that has
# a symbol now has the symbol as its key; an entry that had it before, and whose
# last day lies before the first day of the other, has its first day behind it.

former_mark <- "\x1f"

# Columns with the first and last day of entries of a list.
list_day_columns <- list(
  instruments = list(c("first_day", "listed"), c("last_day", "delisted")),
  places = list(c("first_day", "first"), c("last_day", "last"))
)

# Lists whose names are given again.
former_day_columns <- list_day_columns["instruments"]

# First and last days of rows of a list as numbers; NULL where neither is given.
list_days <- function(rows, shape, of = list_day_columns) {
  columns <- of[shape][[1]]
  named <- lapply(columns, function(names) intersect(names, names(rows))[1])
  if (is.null(columns) || all(is.na(unlist(named)))) {
    return(NULL)
  }
  day <- function(name) {
    if (is.na(name)) {
      return(rep(NA_real_, length(rows[[1]])))
    }
    as.numeric(as_days(rows[[name]]))
  }
  list(first = day(named[[1]]), last = day(named[[2]]))
}

former_key <- function(key, day) {
  paste0(key, former_mark, format(as.Date(day, origin = "1970-01-01")))
}

# Keys of rows of a list, of which several may have one symbol.
former_keys <- function(key, days) {
  for (symbol in unique(key[duplicated(key)])) {
    at <- which(key == symbol)
    at <- at[order(days$first[at])]
    n <- length(at)
    ended <- which(days$last[at[-n]] < days$first[at[-1]])
    key[at[ended]] <- former_key(
      symbol, pmin(days$first[at[ended]], days$last[at[ended]], na.rm = TRUE)
    )
  }
  key
}

# Compares rows of a list with the stored ones of the same symbols: the entry
# that ended before the other began gets another key. Returns the parcel.
former_put <- function(store, page, parcel) {
  days <- list_days(parcel$rows, page$shape, former_day_columns)
  if (is.null(days) || all(is.na(days$first))) {
    return(parcel)
  }
  dated <- sql_get(
    store,
    "SELECT name FROM types WHERE source = ? AND dataset = ? AND
      name IN @texts",
    list(
      page$source, page$dataset,
      json_array(list_day_columns[page$shape][[1]][[2]])
    )
  )$name
  if (!length(dated) && all(is.na(days$last))) {
    return(parcel)
  }
  stored <- sql_get(
    store,
    "SELECT key, body FROM (SELECT key, body, row_number() OVER (PARTITION BY
      key ORDER BY known DESC) AS nth FROM records WHERE source = ? AND
      dataset = ? AND key IN @texts) r WHERE nth = 1",
    list(page$source, page$dataset, json_array(parcel$keys))
  )
  at <- match(stored$key, parcel$keys)
  other <- which(stored$body != parcel$bodies[at])
  if (length(other)) {
    old <- list_days(as.list(words_frame(stored$body[other])), page$shape)
    at <- at[other]
    key <- stored$key[other]
    earlier <- which(days$last[at] < old$first)
    parcel$keys[at[earlier]] <- former_key(
      key[earlier], days$first[at[earlier]]
    )
    for (i in which(old$last < days$first[at])) {
      former <- former_key(
        key[i], min(old$first[i], old$last[i], na.rm = TRUE)
      )
      sql_do(
        store,
        "UPDATE records SET key = ? WHERE source = ? AND dataset = ? AND
          key = ?",
        list(former, page$source, page$dataset, key[i])
      )
      former_note(store, page$source, page$dataset, former)
    }
  }
  former_note(store, page$source, page$dataset, parcel$keys)
  parcel
}

# Notes the entries that had a symbol before, so that reading bars need not look
# for them.
former_note <- function(store, source, dataset, keys) {
  for (key in grep(former_mark, keys, fixed = TRUE, value = TRUE)) {
    store_note(store, "former", source, dataset, key)
  }
}
