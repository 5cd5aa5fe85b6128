# The columns of a draft. A column is a list: `name` in the card; `place`, the
# words for where its value is; `type`, see draft_type(); `values`; `marks`,
# texts that mean "missing"; `optional`; `said`, the last part of the member's
# name; `doubt`, a remark; and `words` that replace its type.

# The meaning of common member names, as a proposal.
draft_columns <- list(
  time = paste0(
    "^(t|ts|at|time|date|day|epoch|timestamp|stamp|begins?|start|",
    "date_?time|when|datum|tag|zeit|jour|fecha|giorno|data)$"
  ),
  open = paste0(
    "^(o|op|open|first|fst|opening|open(ing)?_?price|eroffnung|ouverture|",
    "apertura)$"
  ),
  high = "^(h|hi|high|top|max|high_?price|hoch|(plus_)?haut|maximo|massimo)$",
  low = "^(l|lo|low|min|bottom|low_?price|tief|(plus_)?bas|minimo)$",
  close = paste0(
    "^(c|cl|close|last|lst|closing|price|settle(ment)?|",
    "(clos(e|ing)|last)_?price|schluss(kurs)?|kurs|cloture|cours|cierre|",
    "chiusura)$"
  ),
  volume = paste0(
    "^(v|vol|volume|qty|quantity|lots|umsatz|volumen|stuck|",
    "(traded_?)?volume(_?traded)?)$"
  ),
  symbol = "^(symbol|code|ticker|sym|key|s|instrument|symbole|simbolo)$"
)

# The last part of a member's name: without the number of a numbered name
# ("1. open"), a unit in brackets and accents.
draft_said <- function(member, format = "json") {
  parts <- strsplit(sub("^/", "", member), "/", fixed = TRUE)
  vapply(parts, function(part) {
    last <- part[length(part)]
    # the text of an element beside its attributes
    if (format == "xml" && last == "text" && length(part) > 1) {
      last <- part[length(part) - 1]
    }
    last <- chartr(
      "\u00e0\u00e1\u00e2\u00e4\u00e8\u00e9\u00ea\u00ec\u00ed\u00ee\u00f2",
      "aaaaeeeiiio", pointer_keys(paste0("/", last)) %||% ""
    )
    last <- chartr(
      "\u00f3\u00f4\u00f6\u00f9\u00fa\u00fb\u00fc\u00e7\u00f1\u00d6",
      "ooouuuucnO", last
    )
    plain <- sub("\\s*[(\\[][^)\\]]*[)\\]]$", "", last, perl = TRUE)
    plain <- sub("^[0-9]+[a-z]?[.)]\\s*", "", plain)
    plain <- sub("[.:]+$", "", plain)
    gsub(" ", "_", if (nzchar(plain)) plain else last)
  }, "")
}

# Texts that stand for a missing number.
missing_mark <- paste0(
  "^([.]{1,3}|-{1,3}|:|\u2013|\u2014|\u2026|n/?a|n[.]a[.]|null|nan|none|",
  "missing)$"
)

# The marks of missing values among texts that are numbers otherwise.
draft_marks <- function(values, name) {
  if (!is.character(values)) {
    return(NULL)
  }
  marks <- unique(values[grepl(missing_mark, trimws(values), TRUE)])
  rest <- values[!values %in% marks]
  if (length(marks) && length(rest) &&
    plain_type(draft_type(rest, name)) %in% draft_numbers) {
    marks
  }
}

draft_numbers <- c("number", "decimal comma", "percent")

# The columns of members, with types and without names.
draft_columns_of <- function(members, outer, place, format) {
  said <- draft_said(names(members), format)
  unnamed <- identical(place$form, "arrays") && is.null(place$names)
  keyed <- place$form == "map" || "pairs" %in% c(place$form, place$inner)
  columns <- lapply(seq_along(members), function(i) {
    member <- names(members)[i]
    values <- members[[i]]$values
    marks <- draft_marks(values, said[i])
    values <- values[!values %in% marks]
    # the key of a map may be a period
    key <- member %in% c("/key", "/outer-key")
    type <- draft_type(values, if (key) "period" else said[i])
    if (isTRUE(place$comma) && type == "number") type <- "decimal comma"
    # a number that names a station
    coded <- type == "number" &&
      grepl(draft_series_names, said[i], ignore.case = TRUE) &&
      all(grepl("^[0-9]+$", as.character(values)))
    if (coded) type <- "text"
    list(
      name = NULL,
      member = member,
      place = if (!is.null(place$labels) && member %in% names(place$labels)) {
        place$labels[[member]]
      } else if (keyed && member %in% c("/key", "/value", "/outer-key")) {
        paste("of:", substring(member, 2))
      } else {
        paste0("at: \"", member, "\"", if (outer[i]) ", of: outer")
      },
      type = type,
      values = values,
      marks = marks,
      optional = members[[i]]$optional || length(marks) > 0,
      # the value of a pair, and a member by position, have no name
      said = if (keyed && member == "/value") "" else said[i]
    )
  })
  if (unnamed) columns <- draft_positions(columns)
  draft_joined_period(columns)
}

# A year and a month or quarter in two members are one period.
draft_joined_period <- function(columns) {
  said <- tolower(vapply(columns, `[[`, "", "said"))
  year <- which(said == "year")
  part <- which(said %in% c("month", "quarter", "period"))
  if (length(year) != 1 || length(part) != 1) {
    return(columns)
  }
  text <- as.character(columns[[part]]$values)
  between <- if (all(grepl("^[QM][0-9]{1,2}$", text))) {
    ", joined: \"-\""
  } else if (said[part] == "quarter" && all(text %in% 1:4)) {
    ", joined: \"-Q\""
  } else if (said[part] == "month" && all(as.numeric(text) %in% 1:12)) {
    ", joined: \"-\", digits: [4, 2]"
  }
  if (is.null(between) || !is_period(columns[[year]])) {
    return(columns)
  }
  columns[[year]]$place <- paste0(
    "at: [\"", columns[[year]]$member, "\", \"", columns[[part]]$member,
    "\"]", between
  )
  columns[[year]]$type <- "period"
  columns[-part]
}

is_dated <- function(column) {
  plain_type(column$type) %in% c(instant_types, "local")
}

is_period <- function(column) plain_type(column$type) == "period"

is_numeric_column <- function(column) {
  plain_type(column$type) %in% draft_numbers
}

# Members by position: the first instant is the time, other instants are near
# it; four numbers in a row that are prices of a bar, by their order of size,
# get their names.
draft_positions <- function(columns) {
  times <- which(vapply(columns, is_dated, TRUE))
  if (!length(times)) {
    return(columns)
  }
  first <- times[1]
  columns[[first]]$name <- "time"
  if (startsWith(columns[[first]]$type, "epoch")) {
    near <- 32 * 86400 * 10^c("epoch-s" = 0, "epoch-ms" = 3, "epoch-us" = 6,
      "epoch-ns" = 9)[[columns[[first]]$type]]
    base <- as.numeric(columns[[first]]$values)
    for (i in setdiff(seq_along(columns), first)) {
      value <- suppressWarnings(as.numeric(columns[[i]]$values))
      if (length(value) == length(base) && !anyNA(value) &&
        all(abs(value - base) <= near)) {
        columns[[i]]$type <- columns[[first]]$type
      }
    }
  }
  numbers <- vapply(columns, is_numeric_column, TRUE)
  for (i in which(numbers)) {
    if (i + 3 > length(columns) || !all(numbers[i + 0:3])) next
    order <- draft_price_order(lapply(columns[i + 0:3], `[[`, "values"))
    if (is.null(order)) next
    for (k in 1:4) {
      columns[[i + k - 1]]$name <- order[k]
      columns[[i + k - 1]]$doubt <- "   # ? a guess from the values"
    }
    if (i + 4 <= length(columns) && numbers[i + 4]) {
      columns[[i + 4]]$name <- "volume"
      columns[[i + 4]]$doubt <- "   # ? a guess from its position"
    }
    break
  }
  columns
}

# Which of four columns is open, high, low and close: in all rows the high is
# the highest and the low the lowest. NULL if no usual order fits, or if less
# than two rows tell.
draft_price_order <- function(values) {
  prices <- suppressWarnings(vapply(values, function(x) {
    if (length(x) == length(values[[1]])) {
      as.numeric(x)
    } else {
      rep(NA_real_, length(values[[1]]))
    }
  }, numeric(length(values[[1]]))))
  if (!is.matrix(prices) || anyNA(prices) || nrow(prices) < 2) {
    return(NULL)
  }
  orders <- list(
    c("open", "high", "low", "close"), c("open", "close", "high", "low"),
    c("open", "close", "low", "high"), c("high", "low", "open", "close")
  )
  for (order in orders) {
    high <- prices[, match("high", order)]
    low <- prices[, match("low", order)]
    rest <- prices[, order %in% c("open", "close")]
    if (all(high >= low & high >= rest & low <= rest) && any(high > low)) {
      return(order)
    }
  }
}

# Names of columns by what members are called, by the only time and the only
# price.
draft_named <- function(columns) {
  taken <- unlist(lapply(columns, `[[`, "name"))
  dated <- which(vapply(columns, is_dated, TRUE))
  price <- only_price(columns, length(dated) > 0)
  for (i in seq_along(columns)) {
    column <- columns[[i]]
    if (!is.null(column$name)) next
    fits <- setdiff(draft_meaning(column, price == i, identical(dated, i)),
      taken
    )
    if (is_period(column) && !"period" %in% taken) fits <- "period"
    column$known <- length(fits) > 0
    column$name <- if (length(fits)) {
      fits[1]
    } else {
      plain <- gsub("[^a-z0-9]+", "_", tolower(column$said))
      plain <- gsub("^_+|_+$", "", plain)
      plain <- sub("^$", "value", sub("^([0-9])", "column_\\1", plain))
      make.unique(c(taken, plain), sep = "_")[length(taken) + 1]
    }
    if (is.null(column$doubt)) {
      column$doubt <- draft_doubt(
        column$type, column$values, column$known, price == i
      )
    }
    taken <- c(taken, column$name)
    columns[[i]] <- column
  }
  columns
}

# What a column may be called: by the key of a map, by its name, as the only
# price, and as the only time.
draft_meaning <- function(column, only_price, only_time) {
  # the key of a map is a time or a symbol, whatever its place
  if (column$member %in% c("/key", "/outer-key")) {
    return(if (is_dated(column)) "time" else "symbol")
  }
  fits <- names(draft_columns)[
    vapply(
      draft_columns,
      function(pattern) grepl(pattern, column$said, ignore.case = TRUE), TRUE
    )
  ]
  if (identical(fits[1], "time") && !is_dated(column)) fits <- character()
  if (length(fits)) {
    return(fits)
  }
  if (only_price) {
    "close"
  } else if (only_time) {
    # a single date of a table is its time, in any language
    "time"
  }
}

# The names of members that are values of a statistic, not prices.
value_names <- paste0(
  "^(value|val|v|obs|observation|index|rate|level|wert|valor|valeur|pegel|",
  "stand|niveau|flow|stage|discharge|temperature|rain)|_value$|",
  "_(cm|mm|m|m3s|c|mw|mwh|gwh|tons?|pct|percent)$"
)

# The only number of rows with a time is their price; 0 if there is none.
only_price <- function(columns, timed) {
  number <- which(vapply(columns, is_numeric_column, TRUE))
  named <- vapply(columns, function(column) column$said, "")[number]
  known <- grepl(draft_columns$close, named, ignore.case = TRUE)
  valued <- grepl(value_names, named, ignore.case = TRUE) |
    grepl(dividend_names, named, ignore.case = TRUE) |
    grepl(split_names, named, ignore.case = TRUE)
  # rows of stations or regions are a statistic
  series <- grepl(
    draft_series_names, vapply(columns, function(column) column$said, ""),
    ignore.case = TRUE
  )
  placed <- any(series & !grepl(draft_columns$symbol, vapply(
    columns, function(column) column$said, ""
  ), ignore.case = TRUE))
  if (timed && length(number) == 1 && !known && !valued && !placed) {
    number
  } else {
    0
  }
}

draft_column_line <- function(column) {
  words <- column$words %||% paste0(
    "as: ", draft_type_words(column$type),
    if (length(column$marks)) {
      paste0(
        ", missing: [", paste0("\"", column$marks, "\"", collapse = ", "), "]"
      )
    }
  )
  paste0(
    "      ", column$name, ": {",
    paste(c(column$place, words[nzchar(words)]), collapse = ", "),
    if (column$optional) ", need: optional", "}", column$doubt
  )
}

draft_type_words <- function(type) {
  if (type == "decimal comma") {
    "number, decimal: \",\""
  } else {
    sub("^period", "text", type)
  }
}

# What a draft cannot know about a column, as a remark.
draft_doubt <- function(type, values, named, price) {
  text <- as.character(values)
  if (grepl("%[dm].%[dm].%", type) && length(dates_order(text)$doubt)) {
    "   # ? the day or the month first"
  } else if (type == "number" && is.character(values) &&
    any(grepl(",", text)) && all(grepl("^-?[0-9]{1,3}(,[0-9]{3})?$", text))) {
    "   # ? a comma of thousands, or decimal: \",\""
  } else if (!named) {
    "   # ? a separate column"
  } else if (price) {
    "   # ? the price"
  } else if (type %in% instant_types[1:4]) {
    "   # ? an instant"
  } else if (plain_type(type) == "local") {
    "   # ? zone: of the source, whose local time this is"
  }
}
