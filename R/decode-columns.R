# A column of rows: found by its pointer and read as its type.

# The values of a column: a member of the row, the key or value of a map, or a
# constant of the query.
column_value <- function(rows, rule, known) {
  # a member from deeper in the body is named by its full pointer
  value <- if (!is.null(rule$member)) .subset2(rows, rule$member)
  if (!is.null(value)) {
    return(value)
  }
  if (!is.null(rule$value)) {
    return(rep(as.character(rule$value), nrow(rows)))
  }
  if (!is.null(rule$body)) {
    value <- known[[paste0("body ", rule$body)]]
    # a label of a matrix's row or column
    if (isTRUE(rule$of %in% c("row", "column"))) {
      return(unlist(value)[rows[[rule$of]]])
    }
    return(if (length(value) == 1 && is.atomic(value)) rep(value, nrow(rows)))
  }
  if (!is.null(rule$outer)) {
    return(rows[[paste("outer", rule$outer)]])
  }
  if (!is.null(rule$lookup)) {
    return(rows[[paste("lookup", rule$lookup)]])
  }
  if (is.null(rule$of)) {
    return(members_of(rows, rule))
  }
  value <- if (rule$of %in% c("key", "value", "outer-key")) {
    rows[[rule$of]]
  } else {
    known[[rule$of]]
  }
  if (is.null(value)) NULL else rep_len(value, nrow(rows))
}

# One member, or several joined: a day and an hour, a year and a quarter.
members_of <- function(rows, rule) {
  parts <- lapply(rule$at, function(pointer) member_at(rows, pointer))
  if (any(lengths(parts) == 0)) {
    return(NULL)
  }
  if (!is.null(rule$digits)) {
    parts <- Map(
      with_zeros, parts, rep_len(as.numeric(unlist(rule$digits)), length(parts))
    )
  }
  if (length(parts) == 1) {
    return(parts[[1]])
  }
  absent <- Reduce(`|`, lapply(parts, is.na))
  parts <- lapply(
    parts, function(part) if (is.numeric(part)) plain_numbers(part) else part
  )
  ifelse(
    absent, NA_character_,
    do.call(paste, c(parts, list(sep = rule$joined %||% " ")))
  )
}

# Restores leading zeros of whole numbers: 930 is 0930.
with_zeros <- function(value, digits) {
  text <- if (is.numeric(value)) plain_numbers(value) else as.character(value)
  short <- which(grepl("^[0-9]+$", text) & nchar(text) < digits)
  text[short] <- paste0(strrep("0", digits - nchar(text[short])), text[short])
  text
}

# A rule with the facts that it reads from the answer: a value for all rows, or
# one per row.
rule_with_facts <- function(rule, name, rows, known, where) {
  for (fact in rule$facts) {
    place <- rule[[fact]]
    value <- column_value(rows, place, known)
    if (fact != "zone" && !is.null(value)) {
      value <- read_number(as.character(unlist(value)))
    }
    if (is.null(value) || anyNA(value)) {
      stop_payload(
        paste0(
          "The answer has no ", fact, " at ", place$body %||% place$at,
          ", which the column `", name, "` needs."
        ),
        where, paste0("correct ", fact, ": in the card")
      )
    }
    if (fact == "zone") {
      value <- as.character(value)
      wrong <- setdiff(value, OlsonNames())
      if (length(wrong)) {
        stop_payload(
          paste0("The answer has the unknown time zone \"", wrong[1], "\"."),
          where, "write the zone into the card, as an IANA name"
        )
      }
    }
    rule[[fact]] <- if (length(unique(value)) == 1) value[1] else value
  }
  rule
}

# The rule for some of the rows.
rule_of_rows <- function(rule, at) {
  for (fact in intersect(column_facts, names(rule))) {
    if (length(rule[[fact]]) > 1) rule[[fact]] <- rule[[fact]][at]
  }
  rule
}

column_words <- function(value, words) {
  matched <- unlist(words)[tolower(as.character(value))]
  direct <- unlist(words)[as.character(value)]
  unname(
    ifelse(
      !is.na(direct), direct,
      ifelse(is.na(matched), as.character(value), matched)
    )
  )
}

no_wrong_values <- data.frame(
  row = integer(), pointer = character(), reason = character(),
  detail = character()
)

wrong_values <- function(bad, value, name, at, dataset, numbers = NULL,
                         far = integer()) {
  shown <- vapply(
    bad, function(i) as.character(unlist(value[i]))[1] %||% NA_character_, ""
  )
  lines <- if (is.null(numbers)) bad else numbers[bad]
  data.frame(
    row = bad,
    pointer = paste0(dataset$rows, "/", lines - 1L, at[1] %||% ""),
    reason = ifelse(
      is.na(shown), paste("no", name),
      ifelse(
        bad %in% far,
        paste(
          name, "is outside the years 1677 to 2200: check the unit of the epoch"
        ),
        paste(name, "cannot be read")
      )
    ),
    detail = paste0("value ", shown)
  )
}

empty_columns <- function(dataset) {
  columns <- lapply(dataset$columns, function(rule) {
    read_column(character(), rule$as, "UTC")$value
  })
  if (length(dataset$sides)) columns$side <- character()
  columns
}

pointer_keys <- function(pointer) {
  gsub(
    "~0", "~",
    gsub(
      "~1", "/", strsplit(substring(pointer, 2), "/", fixed = TRUE)[[1]],
      fixed = TRUE
    ),
    fixed = TRUE
  )
}

# The members of all rows at a pointer: "/a" is a column, "/a/b" a member of
# nested objects.
member_at <- function(rows, pointer) {
  # a member from deeper in the body is named by its full pointer
  whole <- .subset2(rows, substring(pointer, 2))
  if (!is.null(whole)) {
    return(whole)
  }
  keys <- pointer_keys(pointer)
  value <- rows
  for (key in keys) {
    value <- if (is.data.frame(value)) {
      value[[key]]
    } else {
      nested_member(value, key)
    }
    if (is.null(value)) {
      return(NULL)
    }
  }
  value
}

nested_member <- function(values, key) {
  if (!is.list(values)) {
    return(NULL)
  }
  fields <- lapply(
    values,
    function(value) {
      if (is.list(value) || !is.null(names(value))) as.list(value)[[key]]
    }
  )
  if (all(lengths(fields) == 0)) {
    return(NULL)
  }
  fields[lengths(fields) == 0] <- NA
  if (all(lengths(fields) == 1 & !vapply(fields, is.list, TRUE))) {
    unlist(fields)
  } else {
    fields
  }
}

# Local instants, with a blank or a T between date and time; a date alone is its
# local midnight.
read_local <- function(text, zone) {
  time <- read_rfc3339(sub(" ", "T", text, fixed = TRUE), zone)
  day <- read_day(text)
  whole <- which(!is.na(day))
  time[whole] <- time_local(day[whole], 0, zone)
  time
}

# Converts a column to its type; `bad` are rows with a value that cannot be
# read.
read_column <- function(value, type, zone, rule = list()) {
  zone <- rule$zone %||% zone
  if (length(zone) > 1) {
    return(read_by_zone(value, type, zone, rule))
  }
  if (is.logical(value) && type != "flag" && all(is.na(value))) {
    value <- NA_real_[rep(1L, length(value))]
  }
  if (is.list(value)) {
    value <- vapply(
      value,
      function(x) {
        if (length(x) == 1 && is.atomic(x)) as.character(x) else NA_character_
      },
      ""
    )
  }
  decimal <- rule$decimal %||% "."
  read <- if (!is.null(rule$written)) {
    read_written(value, type, zone, rule$written, rule$months)
  } else if (!is.null(rule$since)) {
    read_days_since(value, type, zone, rule$since)
  } else {
    switch(type,
      text = if (is.numeric(value)) {
        plain_numbers(value)
      } else {
        as.character(value)
      },
      number = if (is.numeric(value)) {
        as.double(value)
      } else {
        read_number(value, decimal)
      },
      percent = if (is.numeric(value)) {
        as.double(value)
      } else {
        read_number(sub("%", "", as.character(value), fixed = TRUE), decimal)
      },
      "whole number" = whole_or_none(
        if (is.numeric(value)) as.double(value) else read_number(value, decimal)
      ),
      flag = flags_of(value),
      "epoch-s" = read_epoch(value, 1),
      "epoch-ms" = read_epoch(value, 1e3),
      "epoch-us" = read_epoch(value, 1e6),
      "epoch-ns" = read_epoch(value, 1e9),
      rfc3339 = if (inherits(value, "POSIXct")) {
        value
      } else {
        read_rfc3339(as.character(value), zone)
      },
      local = read_local(as.character(value), zone),
      day = read_day(
        sub("[T ]00:00(:00([.]0+)?)?(Z|[+-]00:?00)?$", "", as.character(value))
      )
    )
  }
  if (is.numeric(read)) read <- scaled(read, rule$scale, rule$decimals)
  far <- integer()
  if (startsWith(type, "epoch-")) {
    seconds <- as.numeric(read)
    far <- which(seconds < first_year | seconds >= last_year)
  }
  if (length(far)) read[far] <- NA
  list(
    value = read,
    bad = if (anyNA(read)) which(is.na(read) & !is.na(value)) else integer(),
    far = far
  )
}

# Values of rows in several zones.
read_by_zone <- function(value, type, zone, rule) {
  out <- NULL
  bad <- far <- integer()
  for (one in unique(zone)) {
    at <- which(zone == one)
    part <- rule_of_rows(rule, at)
    part$zone <- one
    read <- read_column(value[at], type, one, part)
    if (is.null(out)) out <- read$value[rep(NA_integer_, length(value))]
    out[at] <- read$value
    bad <- c(bad, at[read$bad])
    far <- c(far, at[read$far])
  }
  list(value = out, bad = sort(bad), far = sort(far))
}

# A division by a whole number gives the double nearest to the decimal, which a
# product with its inverse may miss.
scaled <- function(x, scale, decimals) {
  if (!is.null(decimals)) x <- x / 10^decimals
  if (is.null(scale)) {
    return(x)
  }
  scale <- rep_len(scale, length(x))
  inverse <- 1 / scale
  whole <- abs(inverse - round(inverse)) < 1e-9 & inverse > 1
  ifelse(whole, x / round(inverse), x * scale)
}

# A count of days since a day, as spreadsheets have: 46093.5 since 1899-12-30 is
# noon of 12 March 2026.
read_days_since <- function(value, type, zone, since) {
  number <- if (is.numeric(value)) {
    as.double(value)
  } else {
    plain_number(as.character(value))
  }
  day <- as.Date(since) + floor(number)
  far <- !is.finite(number) | years_off_days(day)
  day[far] <- NA
  if (type == "day") {
    day[which(number != floor(number))] <- NA
    return(day)
  }
  seconds <- round((number - floor(number)) * 86400, 3)
  known <- which(!is.na(day))
  out <- utc(rep(NA_real_, length(day)))
  out[known] <- time_local(
    day[known], seconds[known], if (type == "rfc3339") "UTC" else zone
  )
  out
}

# instants beyond these years come from an epoch in another unit than the card
# states
first_year <- as.numeric(as.POSIXct("1677-01-01", tz = "UTC"))
last_year <- as.numeric(as.POSIXct("2201-01-01", tz = "UTC"))

years_off_days <- function(day) {
  seconds <- as.numeric(day) * 86400
  is.finite(seconds) & (seconds < first_year | seconds >= last_year)
}

read_epoch <- function(value, scale) {
  count <- if (is.numeric(value)) {
    as.double(value)
  } else {
    plain_number(without_date_call(as.character(value)))
  }
  .POSIXct(whole_micros(count / scale), "UTC")
}

# "/Date(1773300600000+0200)/" counts from the same instant with and without the
# offset.
without_date_call <- function(text) {
  sub("^/?Date[(](-?[0-9]+)([+-][0-9]{4})?[)]/?$", "\\1", text)
}

# Numbers in plain notation: 100000, not 1e+05.
plain_numbers <- function(x) {
  text <- as.character(x)
  odd <- grep("e", text, fixed = TRUE)
  if (length(odd)) text[odd] <- vapply(x[odd], number_text, "")
  text
}
