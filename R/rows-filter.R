# Conditions on rows: `column` `operator` `value`, as in type=share,
# volume>=10000, name~barge.

#' Filter rows
#'
#' The language of conditions that desks, exports and commands use.
#'
#' @param rows A data frame.
#' @param conditions Texts, each a column, a sign and a value: `type=share`,
#'   `type!=warrant`, `volume>=10000`, `first<2006-01-01`, `name~barge`. `=` and
#'   `!=` take several values with commas between (any of them, none of them),
#'   and patterns with `*` and `?`; `~` means that the value contains the text,
#'   in any case; `<`, `<=`, `>` and `>=` compare numbers, days and instants,
#'   also if these are stored as text. The name of a column after one of these
#'   compares two columns: `last>open`. All conditions must hold. A missing
#'   value fulfils only `column=` (without a value), which selects missing
#'   values; `column!=` selects all others.
#' @return The rows that fulfil all conditions, in their order.
#' @section Errors: `vetusta_error_argument` for a condition without a sign, an
#'   unknown column (with the nearest name), or a value that cannot be compared
#'   with the column.
#' @export
#' @examples
#' rows <- data.frame(symbol = c("KELD", "TAMX"), volume = c(12000, 800))
#' rows_filter(rows, "volume>=10000")
rows_filter <- function(rows, conditions) {
  if (missing(rows) || !is.data.frame(rows)) {
    vetusta_stop(
      "argument", "This is not a data frame.",
      todo = "give a data frame"
    )
  }
  conditions <- given(conditions, "conditions")
  if (!length(conditions)) {
    return(rows)
  }
  check_text(conditions, "conditions", several = TRUE)
  keep <- rep(TRUE, nrow(rows))
  for (condition in conditions) keep <- keep & condition_holds(condition, rows)
  rows[keep, , drop = FALSE]
}

# Column, operator and value of a condition.
condition_parts <- function(condition) {
  parts <- regmatches(
    condition, regexec("^([^=!<>~]+?) ?(!=|<=|>=|=|<|>|~) ?(.*)$", condition)
  )[[1]]
  if (!length(parts)) {
    vetusta_stop(
      "argument",
      paste0("The condition \"", condition, "\" has no comparison sign."),
      todo = paste0(
        "write it as a column, a sign and a value: type=share, volume>=10000, ",
        "name~barge; in a shell quote it, as in \"volume>=10000\""
      )
    )
  }
  list(
    column = trimws(parts[2]), sign = parts[3], value = trimws(parts[4]),
    text = condition
  )
}

condition_holds <- function(condition, rows) {
  asked <- condition_parts(condition)
  if (!asked$column %in% names(rows)) {
    vetusta_stop(
      "argument",
      paste0("The rows have no column \"", asked$column, "\"."),
      todo = suggest_word(asked$column, names(rows))
    )
  }
  column <- rows[[asked$column]]
  if (is.factor(column)) column <- as.character(column)
  if (is.list(column)) {
    vetusta_stop(
      "argument",
      paste0(
        "The column \"", asked$column, "\" has lists, which cannot be compared."
      ),
      todo = "choose another column"
    )
  }
  hold <- switch(asked$sign,
    "=" = equals_any(column, asked$value),
    "!=" = !equals_any(column, asked$value),
    "~" = holds_text(column, asked$value),
    compares(column, asked, rows)
  )
  if (asked$sign == "=" && length(hold) && !any(hold)) {
    say_no_value(asked, column)
  }
  # a missing value fulfils no condition, unless the condition is about missing
  # values
  if (nzchar(asked$value)) hold & !is.na(column) else hold
}

equals_any <- function(column, value) {
  if (!nzchar(value)) {
    return(is.na(column) | !nzchar(as.character(column)))
  }
  values <- trimws(strsplit(value, ",", fixed = TRUE)[[1]])
  hold <- rep(FALSE, length(column))
  texts <- condition_texts(column)
  for (pattern in values) {
    hold <- hold |
      (if (grepl("[*?]", pattern)) {
        grepl(utils::glob2rx(pattern), texts)
      } else {
        texts == pattern
      })
    number <- if (is.numeric(column)) plain_number(pattern) else NA
    if (!is.na(number)) hold <- hold | column == number
  }
  hold %in% TRUE
}

holds_text <- function(column, value) {
  grepl(tolower(value), tolower(condition_texts(column)), fixed = TRUE)
}

# Values in the form that all outputs use.
condition_texts <- function(column) {
  if (inherits(column, "POSIXt")) {
    format_instant(as.POSIXct(column))
  } else if (inherits(column, "Date")) {
    format(column)
  } else if (is.double(column) && !is.object(column)) {
    format_exact(column)
  } else if (is.logical(column)) {
    tolower(as.character(column))
  } else {
    as.character(column)
  }
}

# Compares two columns of a row, as in last>open.
compares_columns <- function(column, other, asked, wrong) {
  kind <- function(x) {
    if (inherits(x, "POSIXt")) {
      "instants"
    } else if (inherits(x, "Date")) {
      "days"
    } else if (is.numeric(x)) {
      "numbers"
    } else {
      "texts"
    }
  }
  if (kind(column) != kind(other) || kind(column) == "texts") {
    wrong(kind(column))
  }
  get(asked$sign, baseenv())(as.numeric(column), as.numeric(other)) %in% TRUE
}

compares <- function(column, asked, rows) {
  wrong <- function(kind) {
    vetusta_stop(
      "argument",
      paste0(
        "The condition \"", asked$text, "\" compares ", kind, " with \"",
        asked$value, "\"."
      ),
      todo = paste("give", sub("s$", "", kind), "behind the sign")
    )
  }
  column <- compared_texts(column)
  other <- rows[[asked$value]]
  if (!is.null(other)) {
    return(compares_columns(column, compared_texts(other), asked, wrong))
  }
  if (is.character(column)) {
    vetusta_stop(
      "argument",
      paste0(
        "The column \"", asked$column, "\" is text, which ", asked$sign,
        " does not compare."
      ),
      todo = paste0(
        "use a part of the text, as ", asked$column, "~", asked$value,
        ", or for a pattern, as ", asked$column, "=", asked$value, "*"
      )
    )
  }
  value <- if (inherits(column, "POSIXt")) {
    as.numeric(condition_instant(asked$value, wrong))
  } else if (inherits(column, "Date")) {
    as.numeric(read_day(asked$value))
  } else {
    plain_number(asked$value)
  }
  if (is.na(value)) wrong(if (inherits(column, "Date")) "days" else "numbers")
  get(asked$sign, baseenv())(as.numeric(column), value) %in% TRUE
}

# A column of texts that are all numbers or days is compared as such.
compared_texts <- function(column) {
  if (!is.character(column)) {
    return(column)
  }
  there <- !is.na(column) & nzchar(column)
  numbers <- plain_number(column)
  if (all(!is.na(numbers[there]))) {
    return(numbers)
  }
  days <- read_day(column)
  if (all(!is.na(days[there]))) days else column
}

condition_instant <- function(text, wrong) {
  tryCatch(time_instant(text), vetusta_error = function(e) wrong("instants"))
}
