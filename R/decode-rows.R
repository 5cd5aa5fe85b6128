# Rows of a body into the columns that the card declares. What does not fit is reported with its place, row and value; a
# row that lacks what its shape cannot be without is set aside.

# Returns list(columns = named list, faults = data frame of row, pointer, fault, detail).
decode_rows <- function(offer, rows, zone, where) {
  if (is.null(rows)) {
    stop_payload(paste0("The answer has no rows at ", offer$rows, "."), where, "look whether the service changed its answer, and correct rows: in the card")
  }
  if (is.list(rows) && !length(rows)) {
    return(list(columns = empty_columns(offer), faults = no_faults, rows = 0L))
  }
  if (!is.data.frame(rows)) {
    stop_payload(paste0("What stands at ", offer$rows, " is no array of objects."), where, "correct rows: in the card")
  }
  columns <- list()
  faults <- list(no_faults)
  for (name in names(offer$columns)) {
    rule <- column_rule(offer$columns[[name]])
    value <- member_at(rows, rule$at)
    if (is.null(value)) {
      if (rule$need == "required") {
        stop_payload(paste0("No row has the member ", rule$at, ", which is the column `", name, "`."), paste0(where, ", ", offer$rows, "/0", rule$at),
          "look whether the service changed its answer; mark the column need: optional in the card if it may be absent")
      }
      value <- rep(rule$default %||% NA, nrow(rows))
    }
    read <- read_column(value, rule$as %||% default_type(offer$shape, name), zone)
    if (rule$need == "required") read$bad <- union(read$bad, which(is.na(read$value) & is.na(value)))
    if (length(read$bad)) faults[[length(faults) + 1]] <- column_faults(read$bad, value, name, rule$at, offer)
    columns[[name]] <- read$value
  }
  list(columns = columns, faults = if (length(faults) == 1) no_faults else do.call(rbind, faults), rows = nrow(rows))
}

no_faults <- data.frame(row = integer(), pointer = character(), fault = character(), detail = character())

column_rule <- function(rule) {
  if (!is.list(rule)) rule <- list(at = rule)
  rule$need <- rule$need %||% if (is.null(rule$default)) "required" else "optional"
  rule
}

default_type <- function(shape, name) {
  numbers <- c("open", "high", "low", "close", "volume")
  if (name %in% numbers) "number" else "text"
}

column_faults <- function(bad, value, name, at, offer) {
  shown <- vapply(bad, function(i) as.character(unlist(value[i]))[1] %||% NA_character_, "")
  data.frame(
    row = bad, pointer = paste0(offer$rows, "/", bad - 1L, at),
    fault = ifelse(is.na(shown), paste("no", name), paste(name, "cannot be read")), detail = paste0("value ", shown)
  )
}

empty_columns <- function(offer) {
  types <- vapply(names(offer$columns), function(name) column_rule(offer$columns[[name]])$as %||% default_type(offer$shape, name), "")
  lapply(stats::setNames(types, names(offer$columns)), function(type) read_column(character(), type, "UTC")$value)
}

# The members of all rows at one pointer: "/a" is a column, "/a/b" a member of nested objects.
member_at <- function(rows, pointer) {
  keys <- gsub("~0", "~", gsub("~1", "/", strsplit(substring(pointer, 2), "/", fixed = TRUE)[[1]], fixed = TRUE), fixed = TRUE)
  value <- rows
  for (key in keys) {
    value <- if (is.data.frame(value)) value[[key]] else nested_member(value, key)
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
  found <- lapply(values, function(value) if (is.list(value) || !is.null(names(value))) as.list(value)[[key]])
  if (all(lengths(found) == 0)) {
    return(NULL)
  }
  found[lengths(found) == 0] <- NA
  if (all(lengths(found) == 1 & !vapply(found, is.list, TRUE))) unlist(found) else found
}

# One column to its type; `bad` are the rows whose value is there and cannot be read.
read_column <- function(value, type, zone) {
  if (is.list(value)) value <- vapply(value, function(x) if (length(x) == 1 && is.atomic(x)) as.character(x) else NA_character_, "")
  read <- switch(type,
    text = as.character(value),
    number = suppressWarnings(as.double(value)),
    "epoch-s" = utc(suppressWarnings(as.double(value))),
    "epoch-ms" = utc(suppressWarnings(as.double(value)) / 1e3),
    "epoch-us" = utc(suppressWarnings(as.double(value)) / 1e6),
    "epoch-ns" = utc(suppressWarnings(as.double(value)) / 1e9),
    rfc3339 = read_rfc3339(as.character(value), zone),
    local = read_rfc3339(sub(" ", "T", as.character(value), fixed = TRUE), zone),
    day = read_day(as.character(value))
  )
  list(value = read, bad = which(is.na(read) & !is.na(value)))
}
