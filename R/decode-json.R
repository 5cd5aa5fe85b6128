# JSON bodies: the rows and the members that page rules need, by JSON Pointer
# (RFC 6901), in one parse.

# `queries` is a named vector of pointers. A pointer that leads nowhere gives
# NULL, an empty array an empty list. With `long` = "string", whole numbers of
# more than 15 digits, such as ids and cursors, are texts, because a double
# would change them. `instants` are members that are RFC 3339 times.
decode_json <- function(body, queries, where = "the body", long = "double",
                        instants = character(), map = FALSE) {
  if (!length(body)) {
    stop_spoilt(
      "The answer is empty.", where,
      paste0(
        "try again later; if it stays so, check whether the card's ",
        "request is right"
      )
    )
  }
  parsed <- read_json(
    body, queries, where,
    exact = long == "string", instants = instants,
    map = map
  )
  exact <- names(parsed)[
    vapply(
      parsed, function(x) is.numeric(x) && length(x) == 1 && is_long(x), TRUE
    )
  ]
  if (length(exact)) {
    parsed[exact] <- read_json(body, queries[exact], where, exact = TRUE)
  }
  parsed
}

json_levels <- c(list = 0L, vector = 1L, table = 2L, observations = 3L)

# Parts of a JSON body as R objects: `level` says what arrays become: lists
# only, also vectors, or also tables and matrices; with "observations", those of
# SDMX-JSON become two matrices.
read_json <- function(body, queries = "", where = "the body", level = "table",
                      exact = FALSE, instants = character(), map = FALSE) {
  # neither NUL characters nor long numbers fit R's types
  if (exact || length(grepRaw("\\u0000", body, fixed = TRUE))) {
    body <- json_plain_cpp(body, exact)
  }
  # the usual page, rows of single values, in one pass
  usual <- if (level == "table" &&
    !exact &&
    identical(names(queries)[1], "rows")) {
    json_rows_cpp(body, queries, instants, map)
  }
  if (!is.null(usual)) {
    return(usual)
  }
  read <- function(body) {
    json_read_cpp(body, queries, json_levels[[level]], exact)
  }
  tryCatch(read(body), error = function(e) {
    tryCatch(
      read(plain_json(body)),
      error = function(e) stop_no_json(body, where)
    )
  })
}

is_long <- function(x) any(abs(x) >= 2^53 & x == round(x), na.rm = TRUE)

# A whole JSON body.
parse_json <- function(body, where, level = "table") {
  read_json(body, "", where, level)[[1]]
}

# JSON with a byte order mark, or with words for numbers that are not finite.
plain_json <- function(body) {
  if (identical(body[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) body <- body[-(1:3)]
  text <- rawToChar(body[body != as.raw(0)])
  charToRaw(
    gsub(
      "(?<=[:\\[,\\s])-?(NaN|Infinity)(?=\\s*[,\\]}])", "null", text,
      perl = TRUE, useBytes = TRUE
    )
  )
}

# One JSON value a line, as one array.
json_lines <- function(body) {
  lines <- strsplit(
    rawToChar(body[body != as.raw(0)]), "\r?\n",
    useBytes = TRUE
  )[[1]]
  at <- grep("\\S", lines, useBytes = TRUE)
  body <- charToRaw(paste0("[", paste(lines[at], collapse = ","), "]"))
  list(body = body, at = at)
}

stop_no_json <- function(body, where) {
  excerpt <- body_excerpt(body, 80)
  start <- rawToChar(utils::head(body[body != as.raw(0)], 200))
  if (grepl("^\\s*<", start)) {
    stop_spoilt(
      "The answer is a web page or XML, not JSON.", where,
      paste0("check whether the card's URL is right; it begins: ", excerpt)
    )
  }
  stop_spoilt(
    "The answer is not valid JSON: it is cut short or damaged.", where,
    paste0(
      "run the collection again to request it again; the answer begins: ",
      excerpt
    )
  )
}

stop_payload <- function(what, where, todo) {
  vetusta_stop("payload", what, where, todo)
}

# The body is no answer at all; a retry may bring one.
stop_spoilt <- function(what, where, todo) {
  vetusta_stop("payload", what, where, todo, spoilt = TRUE)
}

# Makes a frame of rows, one column a member, from each layout that APIs use.
json_rows <- function(rows, form, where, at, pointers = NULL) {
  odd <- function(wanted) {
    stop_payload(
      paste0(
        "The member at ", if (nzchar(at)) at else "the top", " is no ", wanted,
        "."
      ),
      where, "correct rows: or form: in the card"
    )
  }
  if (is.list(rows) && !is.data.frame(rows) && !length(rows)) {
    return(NULL)
  }
  switch(form,
    objects = if (is.data.frame(rows)) {
      rows
    } else if (is.list(rows) && !is.null(names(rows))) {
      odd("array of objects")
    } else {
      mixed_objects(rows) %||% odd("array of objects")
    },
    arrays = positions_frame(rows) %||% odd("array of arrays"),
    columns = parallel_frame(rows, pointers) %||%
      odd("object of arrays of one length"),
    one = if (is.list(rows) && !is.data.frame(rows) && length(names(rows))) {
      mixed_objects(list(rows))
    } else {
      odd("single object")
    },
    map = map_frame(rows) %||% odd("map from a name to rows"),
    matrix = matrix_frame(rows) %||% odd("array of arrays of one length"),
    tree = tree_frame(rows) %||% odd("object of objects down to single values"),
    pairs = if (length(names(rows))) {
      list_frame(
        list(
          key = names(rows),
          value = unname(if (is.list(rows)) plain_values(rows) else rows)
        )
      )
    } else {
      odd("map from a name to a number")
    }
  )
}

# An array that the parser left as a list, because members are objects in some
# rows and not in others.
mixed_objects <- function(rows) {
  if (!is.list(rows) ||
    !all(
      vapply(rows, function(row) is.list(row) && !is.null(names(row)), TRUE)
    )) {
    return(NULL)
  }
  names <- unique(unlist(lapply(rows, names)))
  list_frame(
    lapply(
      stats::setNames(names, names),
      function(name) plain_values(lapply(rows, `[[`, name))
    )
  )
}

plain_values <- function(values) {
  values[lengths(values) == 0] <- NA
  if (all(lengths(values) == 1) && !any(vapply(values, is.list, TRUE))) {
    unlist(values, use.names = FALSE)
  } else {
    values
  }
}

# A member by key or position: a row of a table or matrix.
element_at <- function(x, key, i) {
  if (is.data.frame(x)) {
    return(if (!is.na(i) && i <= nrow(x)) lapply(x, `[[`, i))
  }
  if (is.matrix(x)) {
    return(if (!is.na(i) && i <= nrow(x)) x[i, ])
  }
  if (is.list(x) && !is.null(names(x))) {
    x[[key]]
  } else if (!is.na(i) && i <= length(x)) {
    x[[i]]
  }
}

# The value at a pointer of a parsed body, in which arrays of objects are frames
# and arrays of arrays matrices.
value_at <- function(x, pointer) {
  for (key in pointer_keys(pointer)) {
    i <- if (grepl("^[0-9]+$", key)) as.integer(key) + 1L else NA
    x <- element_at(x, key, i)
    if (is.null(x)) {
      return(NULL)
    }
  }
  x
}

positions_frame <- function(rows) {
  if (is.matrix(rows)) {
    columns <- lapply(seq_len(ncol(rows)), function(i) rows[, i])
  } else if (is.list(rows) && length(rows)) {
    wide <- max(lengths(rows))
    columns <- lapply(
      seq_len(wide),
      function(i) {
        plain_values(lapply(rows, function(row) if (length(row) >= i) row[[i]]))
      }
    )
  } else {
    return(NULL)
  }
  list_frame(stats::setNames(columns, seq_along(columns) - 1L))
}

is_empty_array <- function(x) is.list(x) && !length(x) && is.null(names(x))

# An object of arrays of one length, possibly nested: `pointers` are the places
# of the columns.
parallel_frame <- function(rows, pointers = NULL) {
  if (is.data.frame(rows) || !is.list(rows) || is.null(names(rows))) {
    return(NULL)
  }
  # empty arrays are no rows
  if (any(vapply(rows, is_empty_array, TRUE)) &&
    !any(lengths(rows) > 1) &&
    all(
      vapply(
        rows,
        function(x) is_empty_array(x) || (is.atomic(x) && length(x) <= 1), TRUE
      )
    )) {
    return(data.frame())
  }
  deep <- setdiff(pointers[grepl("/.*/", pointers)], names(rows))
  fields <- lapply(
    stats::setNames(deep, substring(deep, 2)),
    function(pointer) value_at(rows, pointer)
  )
  # columns without rows, at any depth, are an answer without rows
  declared <- lapply(
    substring(pointers, 2), function(name) fields[[name]] %||% rows[[name]]
  )
  if (any(vapply(declared, is_empty_array, TRUE)) &&
    !any(lengths(declared) > 0)) {
    return(data.frame())
  }
  rows <- c(
    rows[
      !vapply(
        rows,
        function(x) is.data.frame(x) || (is.list(x) && !is.null(names(x))), TRUE
      )
    ],
    fields[lengths(fields) > 0]
  )
  if (!length(rows)) {
    return(NULL)
  }
  # members about the whole answer stand beside the arrays
  arrays <- rows[lengths(rows) == max(lengths(rows)) | lengths(rows) > 1]
  if (length(unique(lengths(arrays))) != 1 || max(lengths(rows)) == 0) {
    NULL
  } else {
    list_frame(arrays)
  }
}

# The usual map, one plain row a name, in one step; NULL for other maps.
flat_map <- function(rows) {
  if (!length(rows) ||
    !is.list(rows[[1]]) ||
    is.data.frame(rows[[1]]) ||
    is.null(names(rows[[1]]))) {
    return(NULL)
  }
  # a null member has length zero, and is missing in its row
  table <- tryCatch(
    suppressWarnings(
      data.table::rbindlist(rows, use.names = TRUE, fill = TRUE, idcol = "key")
    ),
    error = function(e) NULL
  )
  plain <- !is.null(table) &&
    nrow(table) == length(rows) &&
    !any(vapply(table, is.list, TRUE))
  if (plain) as.data.frame(table)
}

# A map from a name (a symbol, a day) to a row or rows: the name becomes the
# member "key".
map_frame <- function(rows) {
  if (isTRUE(attr(rows, "of_map"))) {
    attr(rows, "of_map") <- NULL
    return(rows)
  }
  if (is.data.frame(rows) || !is.list(rows) || is.null(names(rows))) {
    return(NULL)
  }
  flat <- flat_map(rows)
  if (!is.null(flat)) {
    return(flat)
  }
  parts <- Map(
    function(name, part) {
      frame <- if (is.data.frame(part)) {
        part
      } else if (is.list(part) && !is.null(names(part))) {
        list_frame(lapply(part, function(x) plain_values(list(x))))
      }
      if (is.null(frame) || !nrow(frame)) {
        NULL
      } else {
        list_frame(c(list(key = rep(name, nrow(frame))), as.list(frame)))
      }
    },
    names(rows), rows
  )
  as.data.frame(
    data.table::rbindlist(
      Filter(Negate(is.null), parts),
      use.names = TRUE, fill = TRUE
    )
  )
}
