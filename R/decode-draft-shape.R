# The shape of a draft's rows: bars, a statistic, dividends and splits, or a
# table.

draft_dataset <- function(format, place, members, paging, call = NULL) {
  if (!is.null(place$jsonstat)) {
    return(draft_jsonstat_dataset(place$jsonstat, call))
  }
  outer <- rep(c(FALSE, TRUE), c(length(members), length(place$outer)))
  columns <- draft_named(
    draft_columns_of(c(members, place$outer), outer, place, format)
  )
  made <- draft_wide(columns, place, format) %||%
    draft_actions(columns) %||%
    draft_bars(columns, place) %||%
    draft_statistic(columns) %||%
    list(
      shape = "table", path = "rows", columns = columns,
      doubt = paste0(
        strrep(" ", 22), "# ? see docs/source-cards.md for the shapes"
      )
    )
  c(
    "datasets:", paste0("  ", sub("[/{].*", "", made$path), ":"),
    paste0("    shape: ", made$shape, made$doubt),
    call$request %||%
      paste0("    request: /", made$path, "    # ? the path below the URL"),
    call$parameters, if (format != "json") paste0("    format: ", format),
    if (!is.null(place$at)) paste0("    rows: \"", place$at, "\""),
    if (place$form != "objects") paste0("    form: ", place$form),
    draft_names_line(place$names),
    if (length(place$sides)) {
      paste0("    sides: [", paste(place$sides, collapse = ", "), "]")
    },
    if (length(place$table)) {
      paste0(
        "    table: {", paste(place$table, collapse = ", "), "}",
        if (any(grepl("encoding", place$table))) "   # ? the encoding"
      )
    },
    made$unpack, draft_within(place), paging, "    columns:", made$before,
    vapply(made$columns, draft_column_line, ""), place$body
  )
}

draft_names_line <- function(names) {
  if (is.null(names)) {
    return(NULL)
  }
  paste0("    names: ", if (is.null(names$member)) {
    names$at
  } else {
    paste0("{at: ", names$at, ", member: ", names$member, "}")
  })
}

# Gives a column a name of the shape; another column with this name is called by
# its whole place.
draft_rename <- function(columns, i, name) {
  for (k in setdiff(which(names_of(columns) == name), i)) {
    path <- gsub("[^a-z0-9]+", "_", tolower(columns[[k]]$member))
    path <- sub("^_", "", path)
    if (path %in% names_of(columns)) path <- paste0("other_", path)
    columns[[k]]$name <- path
  }
  columns[[i]]$name <- name
  columns
}

names_of <- function(columns) vapply(columns, `[[`, "", "name")

# Rows with a time and a close.
draft_bars <- function(columns, place) {
  if (!all(c("time", "close") %in% names_of(columns))) {
    return(NULL)
  }
  list(
    shape = "bars", path = "bars/{symbol}{?from,to}",
    columns = draft_status(columns)
  )
}

# A flag that says whether a row is final.
draft_status <- function(columns) {
  final <- "^(is_?)?(complete|completed|closed|final|finished)$"
  open <- "^(is_?)?(provisional|preliminary|partial|estimated)$"
  for (i in seq_along(columns)) {
    column <- columns[[i]]
    if (column$type != "flag" || "status" %in% names_of(columns)) next
    ends <- grepl(final, column$said, ignore.case = TRUE)
    if (!ends && !grepl(open, column$said, ignore.case = TRUE)) next
    columns <- draft_rename(columns, i, "status")
    columns[[i]]$words <- paste0(
      "words: {\"true\": ", if (ends) "observed" else "provisional",
      ", \"false\": ", if (ends) "provisional" else "observed", "}"
    )
    columns[[i]]$doubt <- "   # ? whether a row is final"
  }
  columns
}

# Rows with one number that is no price, and one time or period, are a
# statistic.
draft_statistic <- function(columns) {
  number <- which(vapply(columns, is_numeric_column, TRUE))
  timed <- which(vapply(columns, function(column) {
    is_dated(column) || is_period(column)
  }, TRUE))
  if ("close" %in% names_of(columns) || length(number) != 1 ||
    length(timed) != 1) {
    return(NULL)
  }
  valued <- grepl(value_names, columns[[number]]$said, ignore.case = TRUE)
  if (!valued && !plain_type(columns[[timed]]$type) %in% c("day", "period")) {
    return(NULL)
  }
  name <- columns[[number]]$name
  columns <- draft_rename(columns, timed, "period")
  if (is_period(columns[[timed]])) columns[[timed]]$doubt <- NULL
  columns <- draft_rename(columns, number, "value")
  if (!grepl("thousands", columns[[number]]$doubt %||% "")) {
    columns[[number]]$doubt <- "   # ? unit: of the values"
  }
  series <- draft_series(columns)
  fixed <- paste0(
    "      series: {value: ",
    if (name %in% c("value", "volume")) "series" else name,
    "}   # ? the name of the series"
  )
  list(
    shape = "observations", path = "rows", before = series$line %||% fixed,
    columns = draft_status(series$columns)
  )
}

# The series of a statistic: its symbol, or the texts named like codes, or with
# `all` all texts.
draft_series <- function(columns, all = FALSE) {
  at <- match("symbol", names_of(columns))
  if (!is.na(at)) {
    columns <- draft_rename(columns, at, "series")
    return(list(columns = columns, line = character()))
  }
  codes <- which(vapply(columns, function(column) {
    column$type %in% c("text", "number") && startsWith(column$place, "at:") &&
      column$name != "value" &&
      ((all && column$type == "text") ||
        grepl(draft_series_names, column$said, ignore.case = TRUE))
  }, TRUE))
  # the code of a region rather than its title
  stem <- function(said) {
    sub("_?(code|id|name|title|label)$", "", tolower(said))
  }
  said <- vapply(columns[codes], `[[`, "", "said")
  coded <- grepl("(code|id)$", said, ignore.case = TRUE)
  codes <- codes[coded | !stem(said) %in% stem(said[coded])]
  outer <- grepl("of: outer", vapply(columns[codes], `[[`, "", "place"))
  # members of one row only are joined
  codes <- if (all(outer)) utils::head(codes, 1) else codes[!outer]
  if (!length(codes)) {
    return(list(columns = columns))
  }
  members <- vapply(columns[codes], `[[`, "", "member")
  list(
    columns = columns[-codes],
    line = paste0(
      "      series: {at: ",
      if (length(codes) == 1) {
        paste0("\"", members, "\"", if (all(outer)) ", of: outer")
      } else {
        paste0(
          "[", paste0("\"", members, "\"", collapse = ", "),
          "], joined: \".\""
        )
      },
      "}   # ? the name of the series"
    )
  )
}

draft_series_names <- paste0(
  "^(id|code|(series|station|site|gauge|geo|area|region|state|country|",
  "indicator|measure|parameter|variable|item|product)s?(_?(id|code))?)$"
)

dividend_names <- "^(adj(usted)?_?)?(dividend|distribution)s?(_?amount)?$"
split_names <- "^split_?(ratio|factor)$"

# Dividends or splits: a day and an amount or ratio.
draft_actions <- function(columns) {
  said <- vapply(columns, `[[`, "", "said")
  numeric <- vapply(columns, is_numeric_column, TRUE)
  cash <- which(numeric & grepl(dividend_names, said, ignore.case = TRUE))
  split <- which(numeric & grepl(split_names, said, ignore.case = TRUE))
  days <- which(vapply(columns, function(column) {
    plain_type(column$type) == "day"
  }, TRUE))
  if (length(cash) + length(split) != 1 || !length(days) ||
    "close" %in% names_of(columns)) {
    return(NULL)
  }
  ex <- grepl("^ex_?|^date$|^day$", said[days], ignore.case = TRUE)
  day <- days[c(which(ex), 1)][1]
  columns <- draft_rename(columns, day, "ex_day")
  columns[[day]]$doubt <- "   # ? the first day without it"
  hit <- c(cash, split)
  columns <- draft_rename(
    columns, hit, if (length(cash)) "amount" else "ratio"
  )
  columns[[hit]]$doubt <- if (length(split)) "   # ? new shares for an old one"
  list(
    shape = "actions", path = "actions/{symbol}",
    before = c(
      if (!"symbol" %in% names_of(columns)) "      symbol: {of: symbol}",
      paste0(
        "      kind: {value: ", if (length(cash)) "cash-dividend" else "split",
        "}"
      )
    ),
    columns = columns
  )
}

# A table with a column per symbol and a row per day, or with a column per
# period and a row per series.
draft_wide <- function(columns, place, format) {
  if (!format %in% c("csv", "tsv", "xlsx") || length(columns) < 3) {
    return(NULL)
  }
  numbers <- which(vapply(columns, is_numeric_column, TRUE))
  kept <- columns[-numbers]
  if (length(numbers) < 2 || !length(kept)) {
    return(NULL)
  }
  heads <- substring(vapply(columns[numbers], `[[`, "", "member"), 2)
  known <- vapply(columns[numbers], function(x) isTRUE(x$known), TRUE)
  marks <- unique(unlist(lapply(columns[numbers], `[[`, "marks")))
  comma <- any(vapply(columns[numbers], function(column) {
    column$type == "decimal comma"
  }, TRUE))
  value <- list(
    name = "value", place = "at: \"/value\"", optional = length(marks) > 0,
    type = if (comma) "decimal comma" else "number", marks = marks
  )
  named <- function(name) {
    list(name = name, place = "at: /name", words = "", optional = FALSE)
  }
  unpack <- function(what) {
    paste0(
      "    unpack: {keep: [",
      paste0(
        "\"", substring(vapply(kept, `[[`, "", "member"), 2), "\"",
        collapse = ", "
      ),
      "]}   # ? the other columns are ", what
    )
  }
  if (!any(vapply(kept, is_dated, TRUE)) &&
    draft_type(heads, "period") == "period") {
    series <- draft_series(kept, all = TRUE)
    return(list(
      shape = "observations", path = "rows", unpack = unpack("periods"),
      before = series$line,
      columns = c(series$columns, list(named("period"), value))
    ))
  }
  codes <- grepl("^[A-Z][A-Z0-9._-]{1,14}$", heads) & !known
  if (length(kept) == 1 && is_dated(kept[[1]]) && all(codes)) {
    value$name <- "close"
    list(
      shape = "bars", path = "bars{?from,to}", unpack = unpack("symbols"),
      columns = list(kept[[1]], named("symbol"), value)
    )
  }
}

# JSON-stat has its dimensions.
draft_jsonstat_dataset <- function(stat, call) {
  c(
    "datasets:", "  rows:",
    paste("    shape:", if (is.na(stat$time)) "table" else "observations"),
    call$request %||% "    request: /rows    # ? the path below the URL",
    call$parameters, "    format: json-stat", "    columns:",
    draft_jsonstat_lines(stat)
  )
}

# The place and form of nested rows.
draft_within <- function(place) {
  within <- place$within %||% ""
  if (!nzchar(within)) {
    return(NULL)
  }
  at <- if (within == "/") "" else within
  paste0(
    "    within: ",
    if (place$inner == "objects") {
      paste0("\"", at, "\"")
    } else {
      paste0("{at: \"", at, "\", form: ", place$inner, "}")
    }
  )
}
