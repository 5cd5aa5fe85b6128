# Required words of a card's dataset, and combinations that are errors.

card_check_columns <- function(dataset, where) {
  for (name in setdiff(
    shape_columns[[dataset$shape]], names(dataset$columns)
  )) {
    # rows need not repeat the symbol of the request
    if (name == "symbol" && "symbol" %in% dataset_gives(dataset)) next
    vetusta_stop(
      "card",
      paste0(
        "The dataset ", dataset$name, " has the shape ", dataset$shape,
        " and needs the column `", name, "`."
      ),
      where = where,
      todo = paste0("add ", name, ": with the place of its value in a row")
    )
  }
  if (is.null(dataset$rows) &&
    (dataset$format %||% "json") %in% c("json", "xml")) {
    vetusta_stop(
      "card",
      paste0(
        "The dataset ", dataset$name, " has no `rows`, the place of its rows."
      ),
      where = where, todo = "add rows: with a JSON Pointer, as in /items"
    )
  }
  needs <- list(
    url = "at", cursor = c("at", "send"), last = c("at", "send"),
    page = "send", offset = "send", time = "send"
  )[[dataset$next_page$by %||% "none"]]
  for (part in setdiff(needs, names(dataset$next_page))) {
    vetusta_stop(
      "card",
      paste0(
        "The pages of the dataset ", dataset$name, " go by ",
        dataset$next_page$by, " and lack \"", part, "\"."
      ),
      where = sub("columns$", "next_page", where),
      todo = paste0("add ", part, ": to next_page")
    )
  }
  if (identical(dataset$next_page$by, "last") &&
    is.list(dataset$next_page$at)) {
    vetusta_stop(
      "card",
      paste0(
        "The pages of the dataset ", dataset$name,
        " follow a member of the last row, which cannot be in a header."
      ),
      where = sub("columns$", "next_page", where),
      todo = paste0(
        "write at: with the place of the member in a row, as in /id, or ",
        "by: cursor"
      )
    )
  }
}

# What the words of a column may be.
card_check_rules <- function(dataset, place) {
  for (name in names(dataset$columns)) {
    rule <- dataset$columns[[name]]
    wrong <- function(what, word, todo) {
      vetusta_stop(
        "card", paste0("The column ", name, " ", what),
        where = place(c("datasets", dataset$name, "columns", name, word)),
        todo = todo
      )
    }
    if (!is.null(rule$months) && length(rule$months) != 12) {
      wrong(
        "needs the names of all twelve months.", c("written", "months"),
        "write months: [janvier, ...] with twelve names"
      )
    }
    if (!is.null(rule$since) && is.na(read_day(rule$since))) {
      wrong(
        "counts days since a day that does not exist.", "as",
        "write as: day since 1899-12-30"
      )
    }
    if (is.character(rule$zone)) {
      check_zone(
        rule$zone, "card",
        where = place(c("datasets", dataset$name, "columns", name, "zone"))
      )
    }
  }
}

# The template of a request must be well formed.
card_check_request <- function(dataset, place) {
  rest <- gsub(
    "\\{[+#./;?&]?[A-Za-z_][A-Za-z0-9_.,:*]*\\}", "", dataset$request
  )
  if (grepl("[{}]", rest)) {
    part <- regmatches(rest, regexpr("\\{?[^{}]*[{}][^{}]*", rest))
    vetusta_stop(
      "card",
      paste0(
        "The request of the dataset ", dataset$name, " has \"", part,
        "\", which is not a complete URI template expression."
      ),
      where = place(c("datasets", dataset$name, "request")),
      todo = "close the brace, as in {symbol} or {?from,to}"
    )
  }
}

# A parameter may give any key, but not a query word under an old name.
card_check_gives <- function(dataset, place) {
  for (name in names(dataset$parameters)) {
    new <- card_old_words[dataset$parameters[[name]]$gives %||% ""]
    if (!is.na(new)) {
      vetusta_stop(
        "card",
        paste0("The parameter ", name, " cannot give \"", names(new), "\"."),
        where = place(c("datasets", dataset$name, "parameters", name, "gives")),
        todo = paste0("write ", new, " in its place")
      )
    }
  }
}

# Answers that may mean "no data", without those that mean no access or try
# later.
nothing_words <- c(
  "empty", "absent", setdiff(400:499, c(401, 403, 407, 408, 425, 429))
)

card_check_nothing <- function(dataset, where) {
  wrong <- setdiff(as.character(unlist(dataset$nothing)), nothing_words)
  if (length(wrong)) {
    vetusta_stop(
      "card",
      paste0(
        "The dataset ", dataset$name, " cannot take \"", wrong[1],
        "\" as `nothing`."
      ),
      where = where,
      todo = paste0(
        "write empty for an answer without a body, absent for an answer ",
        "without the member ", "that rows: names, or a status such as 404"
      )
    )
  }
}

# A window may be extended to whole days, weeks, months or years.
card_check_aligned <- function(dataset, where) {
  if (!is.null(dataset$aligned) &&
    is_intraday(time_interval(dataset$aligned, "aligned"))) {
    vetusta_stop(
      "card",
      paste0(
        "The windows of the dataset ", dataset$name,
        " cannot be aligned to \"", dataset$aligned, "\"."
      ),
      where = where, todo = "write whole days or longer, as in aligned: P1M"
    )
  }
}

# A request that weighs more than a limit allows could never be made.
card_check_weight <- function(dataset, limits, where) {
  weight <- dataset$weight %||% 1
  weighed <- Filter(function(limit) isTRUE(limit$weighs), limits)
  tight <- Filter(function(limit) weight > limit$count, weighed)
  if (weight <= 0 || length(tight)) {
    vetusta_stop(
      "card",
      paste0(
        "A request of the dataset ", dataset$name, " weighs ", weight,
        if (length(tight)) paste0(", more than ", tight[[1]]$words, " allows"),
        "."
      ),
      where = where,
      todo = "write how much of the limit one request takes, as in weight: 5"
    )
  }
  if (!is.null(dataset$weight) && !length(weighed)) {
    vetusta_stop(
      "card",
      paste0(
        "A request of the dataset ", dataset$name,
        " has a weight, and no limit counts weight."
      ),
      where = where,
      todo = "write the limit as in limits: [1200 weight per minute]"
    )
  }
}

card_check_widest <- function(dataset, where) {
  for (name in if (is.list(dataset$widest)) names(dataset$widest)) {
    if (inherits(try(time_interval(name), silent = TRUE), "try-error")) {
      vetusta_stop(
        "card",
        paste0(
          "`widest` of the dataset ", dataset$name, " speaks of \"", name,
          "\", which is not an interval of bars."
        ),
        where = where,
        todo = "write it as widest: P30D, or as widest: {PT1M: P7D, P1D: P5Y}"
      )
    }
  }
}

# Required words of a job: a ticket where the polled URL contains one, and the
# word for ready where a state is given.
card_check_job <- function(dataset, where) {
  job <- dataset$job
  lacks <- if ("ticket" %in% template_variables(job$look %||% "") &&
    is.null(job$ticket)) {
    "ticket"
  } else if (!is.null(job$state) && is.null(job$ready)) {
    "ready"
  }
  if (length(lacks)) {
    vetusta_stop(
      "card",
      paste0(
        "The job of the dataset ", dataset$name, " lacks \"", lacks, "\"."
      ),
      where = where,
      todo = paste0("add ", lacks, ": to job")
    )
  }
}

# The query words that a dataset's request uses.
dataset_gives <- function(dataset) {
  variables <- unique(template_variables(paste0(dataset$request, dataset$body)))
  vapply(
    variables, function(name) dataset$parameters[[name]]$gives %||% name, "",
    USE.NAMES = FALSE
  )
}

# How a column is read: its place (`at`), its type (`as`), whether the card
# declares the type (`declared`), and whether rows need it (`need`). `member` is
# the name of a direct member of the row; `plain` a number that needs no
# conversion; `facts` are those that it reads from the answer.
column_rule <- function(rule, name, shape) {
  if (!is.list(rule)) rule <- list(at = rule)
  rule <- placed_rule(split_rule(rule))
  for (fact in intersect(column_facts, names(rule))) {
    if (is.list(rule[[fact]])) rule[[fact]] <- placed_rule(rule[[fact]])
  }
  rule$at <- unlist(rule$at)
  rule$declared <- !is.null(rule$as)
  if (!rule$declared) rule$as <- default_type(shape, name)
  if (is.null(rule$need)) {
    rule$need <- if (is.null(rule$default)) "required" else "optional"
  }
  elsewhere <- c("digits", "of", "outer", "lookup", "body", "value")
  if (length(rule$at) == 1 &&
    startsWith(rule$at, "/") &&
    !any(elsewhere %in% names(rule))) {
    rule$member <- substring(rule$at, 2)
  }
  rule$plain <- rule$as == "number" &&
    !any(
      c(
        "scale", "decimals", "words", "missing", "written", "since", "value"
      ) %in%
        names(rule)
    )
  # NULL without any
  facts <- intersect(column_facts, names(rule)[vapply(rule, is.list, TRUE)])
  if (length(facts)) rule$facts <- facts
  rule
}

# Words of a column that state two facts, as in `as: day since 1899-12-30`, with
# a member for each.
split_rule <- function(rule) {
  if (grepl(" since ", rule$as %||% "", fixed = TRUE)) {
    rule$since <- sub(".* since ", "", rule$as)
    rule$as <- sub(" since .*", "", rule$as)
  }
  if (is.list(rule$written)) {
    rule$months <- unlist(rule$written$months)
    rule$written <- rule$written$as
  }
  if (is.list(rule$scale) && identical(rule$scale$as, "decimals")) {
    rule$decimals <- rule$scale[c("at", "of")]
    rule$scale <- NULL
  }
  rule
}

# A place that is not in the row, under the name of what it is in: the body, the
# outer row, or a row of the second list. Labels of a matrix are in the body.
placed_rule <- function(rule) {
  of <- rule$of %||% ""
  if (is.null(rule$at) ||
    !of %in% c("body", "outer", "lookup", "row", "column")) {
    return(rule)
  }
  labels <- of %in% c("row", "column")
  rule[[if (labels) "body" else of]] <- unlist(rule$at)
  rule$at <- NULL
  if (!labels) rule$of <- NULL
  rule
}

# What a column's rule may read from the answer.
column_facts <- c("zone", "scale", "decimals")

# These columns have names of numeric columns elsewhere: the last day of a
# station is a date.
text_columns <- c(places = "last", datasets = "last")

default_type <- function(shape, name) {
  numbers <- c(
    "open", "high", "low", "close", "volume", "value", "last", "change",
    "latitude", "longitude", "cells", "ratio", "amount"
  )
  if (name %in% numbers && !identical(unname(text_columns[shape]), name)) {
    "number"
  } else if (name == "change_percent") {
    "percent"
  } else {
    "text"
  }
}

# The types that a card declares, in the words of the archive's schema.
dataset_types <- function(dataset) {
  named <- Filter(function(rule) isTRUE(rule$declared), dataset$columns)
  type <- vapply(named, `[[`, "", "as")
  type[type == "percent"] <- "number"
  type[!type %in% c("text", "number", "whole number", "flag", "day")] <-
    "instant"
  type
}

# Pages requested by a header, as a range of rows (RFC 9110, section 14).
sends_header <- function(rule) is.list(rule$send)

# The parameter of the URL or body that requests a page.
page_parameter <- function(dataset) {
  if (!sends_header(dataset$next_page)) dataset$next_page$send
}
