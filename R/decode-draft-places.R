# Where the rows of a sample are: candidates with form and number of rows.

# Members that report an error.
error_members <-
  "(^|/)(errors?|faults?|problems?|warnings?|messages?|exceptions?)(/|$)"

# The message of an answer that is only an error: its top level has such a
# member that is not empty, or problem details (RFC 9457).
draft_error_said <- function(x) {
  if (!is_object(x)) {
    return(NULL)
  }
  names <- names(x)
  members <- names[
    grepl(
      "^(errors?|faults?|exceptions?|error_?(message|code|description))$",
      names,
      ignore.case = TRUE
    )
  ]
  said <- Filter(
    function(value) {
      length(unlist(value)) &&
        !identical(value, FALSE) &&
        !identical(value, 0) &&
        !identical(value, "")
    },
    x[members]
  )
  failed <- identical(
    tolower(as.character(unlist(x[["status"]]))[1]), "error"
  ) ||
    identical(x[["ok"]], FALSE) ||
    identical(x[["success"]], FALSE)
  details <- all(c("title", "status") %in% names) &&
    is_number(x[["status"]]) &&
    x[["status"]] >= 400
  if (!length(said) && !failed && !details) {
    return(NULL)
  }
  text <- unlist(if (length(said)) said else x[vapply(x, is.atomic, TRUE)])
  substr(paste(text, collapse = ", "), 1, 160)
}

is_object <- function(x) is.list(x) && length(names(x)) > 0

is_rows <- function(x) {
  is.list(x) &&
    is.null(names(x)) &&
    length(x) > 0 &&
    all(vapply(x, is_object, TRUE))
}

# Names of members as instants, days or periods of a map; NA for other names.
key_times <- function(names) {
  day <- as.numeric(read_day(names)) * 86400
  instant <- as.numeric(read_rfc3339(sub(" ", "T", names, fixed = TRUE)))
  ifelse(is.na(day), instant, day)
}

holds_objects <- function(x) any(vapply(x, is.list, TRUE))

draft_arrays <- function(x, at) {
  if (!is.list(x) || !length(x)) {
    return(NULL)
  }
  candidate <- function(form, rows, within = "", inner = "") {
    data.frame(
      at = at, rows = rows, form = form, within = within, inner = inner
    )
  }
  if (is.null(names(x))) {
    mixed <- !all(vapply(x, is_object, TRUE)) &&
      !all(vapply(x, is_plain_array, TRUE))
    return(
      if (mixed) draft_of_parts(x, at) else draft_of_array(x, candidate)
    )
  }
  deeper <- function(name) {
    draft_arrays(
      x[[name]],
      paste0(
        at, "/",
        gsub("/", "~1", gsub("~", "~0", name, fixed = TRUE), fixed = TRUE)
      )
    )
  }
  here <- draft_of_object(x, candidate)
  below <- do.call(rbind, lapply(names(x), deeper))
  # a single object without rows is a row
  if (is.null(here) && is.null(below) && at == "" && length(unlist(x))) {
    here <- draft_single(x)
  }
  rbind(here, below)
}

# The rows of an array whose elements differ, as a head and a list of rows.
draft_of_parts <- function(x, at) {
  parts <- which(!vapply(x, is.atomic, TRUE))
  lists <- parts[!vapply(x[parts], is_object, TRUE)]
  if (length(lists)) parts <- lists
  do.call(
    rbind,
    lapply(parts, function(i) draft_arrays(x[[i]], paste0(at, "/", i - 1)))
  )
}

# An array of arrays, of objects, or of objects that contain rows.
draft_of_array <- function(x, array) {
  if (!all(vapply(x, is_object, TRUE))) {
    arrays <- all(vapply(x, is_plain_array, TRUE)) && all(lengths(x) > 1)
    return(if (arrays) array("arrays", length(x)))
  }
  inside <- unique(unlist(lapply(x, rows_inside)))
  sizes <- vapply(
    inside, function(at) sum(lengths(lapply(x, draft_at, at))), 0
  )
  best <- if (length(sizes) && max(sizes) > length(x)) names(which.max(sizes))
  if (is.null(best)) {
    return(array("objects", length(x)))
  }
  rows <- any(vapply(x, function(row) is_rows(draft_at(row, best)), TRUE))
  array("objects", max(sizes), best, if (rows) "objects" else "arrays")
}

# The places of rows in an object, in arrays of one object too.
rows_inside <- function(x, at = "") {
  if (!is_object(x)) {
    return(NULL)
  }
  unlist(lapply(names(x), function(name) {
    part <- x[[name]]
    here <- paste0(at, "/", gsub("/", "~1", gsub("~", "~0", name, fixed = TRUE),
      fixed = TRUE
    ))
    if (is_rows(part) && length(part) == 1) {
      deeper <- rows_inside(part[[1]], paste0(here, "/0"))
      return(if (length(deeper)) deeper else here)
    }
    if (is_rows(part) || is_table(part)) here
  }))
}

# An object whose members are rows, or whose arrays are columns.
draft_of_object <- function(x, array) {
  every <- function(is) all(vapply(x, is, TRUE))
  alike <- function(parts) {
    length(unique(lapply(parts, function(part) sort(names(part))))) == 1
  }
  objects <- every(is_object)
  dated <- function(part) {
    is_object(part) && !anyNA(key_times(names(part)))
  }
  if (length(x) > 2 && every(is_number)) {
    array("pairs", length(x))
  } else if (objects &&
    every(is_map_of_numbers) &&
    !anyNA(read_day(names(x)))) {
    array("map", sum(lengths(x)), "/", "pairs")
  } else if (every(dated) && all(vapply(x, holds_objects, TRUE))) {
    array("map", sum(lengths(x)), "/", "map")
  } else if (objects && dated(x) && !any(vapply(x, holds_objects, TRUE))) {
    array("map", length(x) + 0.5)
  } else if (length(x) > 1 && dated(x) && every(is_number)) {
    array("pairs", length(x))
  } else if (length(x) > 1 && every(is_column_set) && alike(x)) {
    array(
      "map", sum(vapply(x, function(part) max(lengths(part)), 1)), "/",
      "columns"
    )
  } else if (every(is_table) && !any(grepl("^prices?$", names(x), TRUE))) {
    array("map", sum(lengths(x)), "/", "arrays")
  } else if (length(x) > 2 && objects && alike(x)) {
    array("map", length(x))
  } else if (length(x) > 1 && every(is_rows) && alike(lapply(x, `[[`, 1))) {
    array("map", sum(lengths(x)))
  } else {
    plain <- lengths(Filter(is_plain_array, x))
    columns <- length(plain) > 1 &&
      sum(plain == max(plain)) > 1 &&
      max(plain) > 1
    if (columns) array("columns", max(plain))
  }
}
