# The schema of a dataset: the type of each column, decided once and enforced at
# every write.
#
# A column has the type that its card or import declares, else that of its first
# values; an empty column decides nothing. Later values of another type are
# converted if that loses nothing; otherwise the column becomes text, with a
# note. Stored values are unchanged and are read as text from then on.

# The type of values; NULL without any.
value_type <- function(column) {
  if (!length(column) || (is.na(column[[1]]) && all(is.na(column)))) {
    NULL
  } else if (inherits(column, "POSIXct")) {
    "instant"
  } else if (inherits(column, "Date")) {
    "day"
  } else if (is.logical(column)) {
    "flag"
  } else if (is.integer(column) && !is.object(column)) {
    "whole number"
  } else if (is.numeric(column) && !is.object(column)) {
    "number"
  } else {
    "text"
  }
}

# Texts converted to a type, where each reads back as it is written; else NULL.
texts_as <- list(
  number = function(text) {
    number <- exact_numbers(text)
    if (!any(is.na(number) & !is.na(text))) number
  },
  "whole number" = function(text) {
    number <- exact_numbers(text)
    if (!any(is.na(number) & !is.na(text)) && are_whole(number)) number
  },
  day = function(text) {
    day <- read_day(text)
    if (!any(is.na(day) & !is.na(text))) day
  },
  instant = function(text) {
    instant <- read_rfc3339(text)
    if (!any(is.na(instant) & !is.na(text)) &&
      all(is.na(text) | format_instant(instant) == text)) {
      instant
    }
  },
  flag = function(text) {
    if (all(text %in% c("true", "false", NA))) text == "true"
  }
)

# Values as texts of a text column.
as_text <- function(column) {
  if (is.character(column)) {
    column
  } else if (inherits(column, "POSIXct")) {
    format_instant(column)
  } else if (inherits(column, "Date")) {
    format(column)
  } else if (is.logical(column)) {
    tolower(as.character(column))
  } else if (is.numeric(column) && !is.object(column)) {
    number_texts(column)
  } else {
    as.character(column)
  }
}

number_texts <- function(column) {
  ifelse(is.na(column), NA_character_, format_exact(column))
}

number_types <- c("number", "whole number")

# list(column, type): values converted to a column's type, or both as text where
# that would lose something.
fit_column <- function(column, type) {
  have <- value_type(column)
  if (is.null(have) || identical(have, type)) {
    return(list(column = column, type = type))
  }
  if (is.null(type)) {
    return(list(column = column, type = have))
  }
  # whole numbers are numbers
  if (have %in% number_types && type %in% number_types) {
    whole <- type == "whole number" && are_whole(column)
    return(list(column = column, type = if (whole) type else "number"))
  }
  read <- if (have == "text" && type != "text") {
    texts_as[[type]](as.character(column))
  }
  if (is.null(read)) {
    list(column = as_text(column), type = "text")
  } else {
    list(column = read, type = type)
  }
}

# The columns of a page by its dataset's schema; new decisions are stored.
sql_fitted <- function(store, page, columns) {
  # a column whose class shows its type needs no look at its values
  plain <- vapply(
    columns, function(column) if (is.object(column)) "" else typeof(column), ""
  )
  plain <- plain[!names(plain) %in% c("series", time_columns)]
  place <- paste(page$source, page$dataset, sep = "\r")
  # the usual page has the columns of the page before it
  if (identical(store$types[[place]]$fits, plain)) {
    return(columns)
  }
  types <- sql_declared(store, page, names(columns))
  like <- c(number = "double", text = "character")[types[names(plain)]]
  odd <- names(plain)[!(plain == like) %in% TRUE]
  if (!length(odd)) store$types[[place]]$fits <- plain
  fitted <- list()
  for (name in odd) {
    column <- columns[[name]]
    known <- if (name %in% names(types)) types[[name]]
    fit <- fit_column(column, known)
    if (!identical(fit$type, known)) {
      sql_put_type(store, page, name, known, fit$type)
    }
    if (!identical(fit$column, column)) fitted[[name]] <- fit$column
  }
  columns[names(fitted)] <- fitted
  columns
}

# The types of a dataset, with those that the page's card or import declares for
# columns without one.
sql_declared <- function(store, page, columns) {
  types <- sql_types(store, page$source, page$dataset)
  if (all(names(page$types) %in% names(types))) {
    return(types)
  }
  fresh <- setdiff(
    intersect(names(page$types), columns),
    c(names(types), "series", time_columns)
  )
  for (name in fresh) sql_put_type(store, page, name, NULL, page$types[[name]])
  if (length(fresh)) sql_types(store, page$source, page$dataset) else types
}

# The types of a dataset's columns by name, cached in this process, with the
# classes of the columns of a page that fits them as it is (`fits`).
sql_types <- function(store, source, dataset) {
  name <- paste(source, dataset, sep = "\r")
  cached <- store$types[[name]]$types
  if (is.null(cached)) {
    rows <- sql_get(
      store, "SELECT name, type FROM types WHERE source = ? AND dataset = ?",
      list(source, dataset)
    )
    cached <- stats::setNames(as.character(rows$type), as.character(rows$name))
    assign(name, list(types = cached), envir = store$types)
  }
  cached
}

sql_put_type <- function(store, page, name, before, type) {
  place <- list(page$source, page$dataset, name)
  if (is.null(before)) {
    # of two processes that decide at once the first wins
    sql_do(
      store, "INSERT INTO types VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
      c(place, type)
    )
  } else {
    sql_do(
      store,
      "UPDATE types SET type = ? WHERE source = ? AND dataset = ? AND name = ?",
      c(type, place)
    )
    store_note(
      store, "widened", page$source, page$dataset, name,
      paste(before, "to", type)
    )
  }
  assign(
    paste(page$source, page$dataset, sep = "\r"), NULL,
    envir = store$types
  )
}

# Columns as the current schema says: values written before a column became text
# are text too.
store_typed <- function(store, source, dataset, columns) {
  types <- sql_types(store, source, dataset)
  for (name in intersect(names(columns), names(types)[types == "text"])) {
    if (!is.character(columns[[name]])) {
      columns[[name]] <- as_text(columns[[name]])
    }
  }
  columns
}
