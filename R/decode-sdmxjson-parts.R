# Parts of an SDMX-JSON message: measures, cells, attributes and groups.

# The ids of the measures of each observation, in order (SDMX-JSON 2.0).
json_measures <- function(structure) {
  vapply(
    structure$measures$observation %||% structure$measures,
    function(measure) {
      if (is.list(measure)) measure$id %||% NA_character_ else NA_character_
    },
    ""
  )
}

# The member `k` of each observation as text.
json_texts <- function(flat, k) {
  vapply(
    flat,
    function(row) {
      value <- if (length(row) >= k) row[[k]]
      if (is.null(value) || !length(value) || is.na(value)) {
        NA_character_
      } else if (is.numeric(value)) {
        format_exact(value)
      } else {
        as.character(value)
      }
    },
    ""
  )
}

json_index <- function(names, width, where) {
  parts <- strsplit(names, ":", fixed = TRUE)
  # nolint
  if (length(parts)) check_json_index(lengths(parts), width, where)
  matrix(as.integer(unlist(parts)), ncol = width, byrow = TRUE)
}

check_json_index <- function(parts, width, where) {
  if (any(parts != width)) {
    stop_payload(
      paste0(
        "The data do not match the structure: a key has another number ",
        "of parts than there ", "are dimensions."
      ),
      where, "report it to the provider of the service"
    )
  }
}

json_set_dimensions <- function(components, n, values) {
  stats::setNames(
    lapply(components, function(component) rep(values(component)[1], n)),
    vapply(components, `[[`, "", "id")
  )
}

# Observations that are arrays of numbers: a matrix with a column each; NULL
# where some have other values.
json_cells <- function(flat) {
  if (is.numeric(flat)) {
    return(matrix(as.double(flat), nrow = 1))
  }
  lengths <- lengths(flat)
  values <- unlist(flat, use.names = FALSE)
  if (!is.numeric(values) || length(values) != sum(lengths) || !all(lengths)) {
    return(NULL)
  }
  if (length(unique(lengths)) == 1) {
    return(matrix(as.double(values), nrow = lengths[1]))
  }
  cells <- matrix(NA_real_, max(lengths), length(flat))
  cells[cbind(sequence(lengths), rep(seq_along(flat), lengths))] <- values
  cells
}

# After its measures each observation has its attributes.
json_cell_attributes <- function(cells, components, values, measures = 1L) {
  first <- max(1L, measures)
  out <- list()
  for (i in seq_len(max(0, min(nrow(cells) - first, length(components))))) {
    known <- values(components[[i]])
    out[[components[[i]]$id]] <- if (length(known)) {
      texts_at_cpp(known, cells, i + first)
    } else {
      as.character(cells[i + first, ])
    }
  }
  out
}

# The first member of each observation is its value.
json_first <- function(flat) {
  if (is.numeric(flat)) {
    return(as.double(flat))
  }
  lengths <- lengths(flat)
  if (length(flat) &&
    all(lengths == 1) &&
    all(vapply(flat, is.numeric, TRUE))) {
    return(as.double(unlist(flat, use.names = FALSE)))
  }
  vapply(
    flat,
    function(row) {
      value <- if (length(row)) row[[1]]
      if (is.null(value) || !length(value) || is.na(value)) {
        NA_real_
      } else {
        suppressWarnings(as.double(value))
      }
    },
    1
  )
}

json_rest <- function(flat, measures = 1L) {
  first <- max(1L, measures)
  if (!is.list(flat) || all(lengths(flat) <= first)) {
    return(NULL)
  }
  lapply(flat, function(row) if (length(row) > first) row[-seq_len(first)])
}

# Attributes are indices into a component's values, or the values themselves;
# trailing ones may be left out.
json_attributes <- function(rows, components, values) {
  if (!length(components) || is.null(rows)) {
    return(list())
  }
  width <- max(lengths(rows), 0L)
  out <- list()
  for (i in seq_along(components)) {
    if (i > width) break
    raw <- lapply(rows, function(row) if (length(row) >= i) row[[i]])
    known <- values(components[[i]])
    # a number is an index where values are listed; a text is always a value
    one_text <- function(value) {
      if (is.null(value) || !length(value) || is.na(value)) {
        NA_character_
      } else if (is.numeric(value) && length(known)) {
        known[value + 1]
      } else {
        as.character(value)
      }
    }
    # an attribute with several values keeps all of them
    out[[components[[i]]$id]] <- vapply(
      raw,
      function(some) {
        texts <- vapply(as.list(some), one_text, "")
        texts <- texts[!is.na(texts)]
        if (length(texts)) paste(texts, collapse = ", ") else NA_character_
      },
      ""
    )
  }
  out
}

# SDMX-JSON 2.0: attributes of a partial key, "0:1:" with empty parts for open
# dimensions. Parts index the message's values of each dimension, in the
# structure's order; some services leave out constant dimensions, or the time.
# Returns list(series, attributes); keys with a time belong to observations.
json_dimension_groups <- function(series, obs, groups, components, dimensions,
                                  listed, values) {
  ids <- vapply(listed, `[[`, "", "id")
  orders <- list(
    c(dimensions, setdiff(ids, dimensions)), dimensions,
    intersect(dimensions, ids)
  )
  attributes <- list()
  for (key in names(groups)) {
    parts <- strsplit(paste0(key, ":x"), ":", fixed = TRUE)[[1]]
    parts <- parts[-length(parts)]
    order <- Filter(function(order) length(order) == length(parts), orders)
    order <- if (length(order)) order[[1]] else dimensions
    details <- json_attributes(list(groups[[key]]), components, values)
    details <- details[!vapply(details, is.na, TRUE)]
    at <- rep(TRUE, nrow(series))
    time <- NULL
    for (i in seq_along(parts)) {
      name <- order[i]
      if (!nzchar(parts[i]) || parts[i] == "~" || is.na(name)) next
      code <- if (name %in% ids) {
        values(listed[[match(name, ids)]])[as.integer(parts[i]) + 1]
      }
      if (is.null(series[[name]])) {
        if (!name %in% dimensions && length(code)) time <- code
        next
      }
      at <- at & series[[name]] %in% code
    }
    for (name in names(details)) {
      if (is.null(time)) {
        if (is.null(series[[name]])) {
          series[[name]] <- rep(NA_character_, nrow(series))
        }
        series[[name]][at] <- details[[name]]
      } else {
        if (is.null(attributes[[name]])) {
          attributes[[name]] <- rep(NA_character_, length(obs$time))
        }
        attributes[[name]][at[obs$series] & obs$time %in% time] <-
          details[[name]]
      }
    }
  }
  list(series = series, attributes = attributes)
}
