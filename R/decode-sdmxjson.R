# SDMX-JSON data messages of versions 1.0 and 2.0: keys that index lists of
# values.

sdmx_from_json <- function(body, dimensions, where) {
  inner <- function(parsed) {
    if (is.null(parsed[["data"]])) parsed else parsed[["data"]]
  }
  parsed <- parse_json(body, where, level = "observations")
  if (!all_usual(inner(parsed)$dataSets)) {
    parsed <- parse_json(body, where, level = "vector")
    # an array of numbers and texts would be read as texts, including its
    # indices
    if (has_text_cells(inner(parsed))) {
      parsed <- parse_json(body, where, level = "list")
    }
  }
  problems <- c(parsed[["errors"]], parsed[["data"]][["errors"]])
  content <- if (is.null(parsed[["data"]])) parsed else parsed[["data"]]
  if (is.null(content$dataSets)) {
    if (length(problems)) {
      stop_payload(
        paste0(
          "The service answers with an error: ",
          paste(vapply(problems, json_problem, ""), collapse = "; ")
        ),
        where, "check the query; if it is right, try again later"
      )
    }
    stop_payload(
      "The answer is JSON and no data message: it has no dataSets.", where,
      "check whether the card's URL is right"
    )
  }
  structures <- content[["structures"]] %||% list(content[["structure"]])
  parts <- lapply(
    content$dataSets,
    function(set) {
      json_set(
        set, structures[[(set[["structure"]] %||% 0) + 1]], dimensions, where
      )
    }
  )
  sets <- data.frame(
    action = vapply(
      content$dataSets, function(set) set$action %||% NA_character_, ""
    ),
    valid_from = vapply(
      content$dataSets, function(set) set$validFrom %||% NA_character_, ""
    ),
    valid_to = vapply(
      content$dataSets, function(set) set$validTo %||% NA_character_, ""
    )
  )
  series <- data.table::rbindlist(
    lapply(parts, `[[`, "series"),
    use.names = TRUE, fill = TRUE
  )
  counts <- vapply(parts, function(part) nrow(part$series), 0L)
  shift <- cumsum(c(0L, counts))
  obs <- lapply(seq_along(parts), function(i) {
    part <- parts[[i]]$obs
    part$series <- part$series + shift[i]
    part
  })
  obs <- if (length(obs) == 1) {
    obs[[1]]
  } else {
    as.list(data.table::rbindlist(obs, use.names = TRUE, fill = TRUE))
  }
  attributes <- lapply(parts, `[[`, "attributes")
  attributes <- if (length(attributes) == 1) {
    attributes[[1]]
  } else {
    as.list(data.table::rbindlist(
      Map(
        function(columns, part) {
          c(columns, list(.row = part$obs$series))
        },
        attributes, parts
      ),
      use.names = TRUE, fill = TRUE
    ))
  }
  sdmx_message(
    as.data.frame(series),
    obs,
    attributes[setdiff(names(attributes), ".row")],
    sets,
    rep(seq_along(parts), counts),
    where,
    dimensions,
    notes = vapply(problems, json_problem, ""),
    third = !is.null(content[["structures"]]),
    prepared = parsed[["meta"]][["prepared"]] %||%
      parsed[["header"]][["prepared"]] %||% ""
  )
}

# Whether all observations are arrays of numbers under keys of numbers.
all_usual <- function(sets) {
  texts <- function(set) {
    any(
      vapply(
        c(
          lapply(unname(set[["series"]]), `[[`, "attributes"),
          set["attributes"], set[["dimensionGroupAttributes"]]
        ),
        is.character, TRUE
      )
    )
  }
  all(vapply(
    sets,
    function(set) {
      observations <- set[["observations"]]
      (!length(observations) || is.matrix(observations[["cells"]])) &&
        !texts(set) &&
        (!is.null(attr(set[["series"]], "usual")) ||
          !any(
            lengths(lapply(unname(set[["series"]]), `[[`, "observations")) > 0
          ))
    },
    TRUE
  ))
}

# Such observations of one or all series: list(counts, index, cells).
usual_cells <- function(set) {
  if (!all_usual(list(set))) {
    NULL
  } else if (is.null(set$series)) {
    if (length(set$observations)) set$observations else NULL
  } else {
    attr(set$series, "usual") %||%
      list(
        counts = integer(length(set$series)),
        index = matrix(0L, 0, 0),
        cells = matrix(0, 1, 0)
      )
  }
}

has_text_cells <- function(content) {
  any(vapply(
    content$dataSets,
    function(set) {
      cells <- c(
        set[["observations"]],
        unlist(
          lapply(unname(set[["series"]]), `[[`, "observations"),
          recursive = FALSE
        )
      )
      any(
        vapply(
          c(
            cells, lapply(unname(set[["series"]]), `[[`, "attributes"),
            set["attributes"], set[["dimensionGroupAttributes"]]
          ),
          is.character, TRUE
        )
      )
    },
    TRUE
  ))
}

json_problem <- function(problem) {
  if (is.list(problem)) {
    paste(c(problem$title, problem$detail, problem$code), collapse = " ")
  } else {
    as.character(problem)
  }
}

json_set <- function(set, structure, dimensions, where) {
  parts <- structure$dimensions
  ids <- function(components) vapply(components, `[[`, "", "id")
  # the ids of a component's values, in the order that indices use
  values <- function(component) {
    vapply(
      component$values,
      function(value) {
        if (is.list(value)) {
          as.character(value$id %||% value$value %||% value$name %||% NA)
        } else {
          as.character(value)
        }
      },
      ""
    )
  }
  attributes <- function(place) structure$attributes[[place]] %||% list()
  read_attributes <- function(rows, components) {
    json_attributes(rows, components, values)
  }
  if (!is.null(set$series)) {
    components <- parts$series
    index <- json_index(names(set$series), length(components), where)
    series <- lapply(
      seq_along(components), function(i) values(components[[i]])[index[, i] + 1]
    )
    names(series) <- ids(components)
    series <- c(
      series, json_set_dimensions(parts$dataSet, length(set$series), values),
      read_attributes(
        lapply(set$series, `[[`, "attributes"), attributes("series")
      )
    )
    inner <- lapply(unname(set$series), `[[`, "observations")
    usual <- usual_cells(set)
    counts <- usual$counts %||% lengths(inner)
    flat <- if (is.null(usual)) {
      unlist(inner, recursive = FALSE, use.names = FALSE)
    }
    at <- if (is.null(usual)) {
      place <- text_groups(
        as.character(unlist(lapply(inner, names), use.names = FALSE))
      )
      as.integer(place$levels)[place$id]
    } else {
      usual$index
    }
    owner <- rep(seq_along(inner), counts)
    time <- texts_at_cpp(
      values(parts$observation[[1]]), at, min(1L, NROW(usual$index))
    )
  } else {
    components <- parts$observation
    usual <- usual_cells(set)
    index <- if (is.null(usual)) {
      json_index(names(set$observations), length(components), where)
    } else {
      t(usual$index)
    }
    check_json_index(ncol(index), length(components), where)
    flat <- if (is.null(usual)) unname(set$observations)
    all <- stats::setNames(
      lapply(
        seq_along(components),
        function(i) values(components[[i]])[index[, i] + 1]
      ),
      ids(components)
    )
    clock <- which(
      ids(components) == "TIME_PERIOD" |
        vapply(
          components,
          function(part) {
            isTRUE(part$keyPosition == length(components) - 1) &&
              identical(part$id, "TIME_PERIOD")
          },
          TRUE
        )
    )
    time <- all[[clock[1]]]
    owner <- row_groups(all[-clock[1]])
    first <- !duplicated(owner)
    series <- c(
      lapply(all[-clock[1]], `[`, first),
      json_set_dimensions(parts$dataSet, sum(first), values)
    )
  }
  n <- length(series[[1]])
  set_attributes <- json_attributes(
    list(set$attributes),
    c(attributes("dataSet"), if (is.null(attributes("dataSet"))) list()), values
  )
  series <- c(series, lapply(set_attributes, rep, n))
  series <- as.data.frame(series, check.names = FALSE)
  cells <- if (is.null(usual)) json_cells(flat) else usual$cells
  measures <- json_measures(structure)
  count <- length(measures)
  obs <- list(
    series = owner,
    time = time,
    value = if (is.null(cells)) json_first(flat) else cells[1, ]
  )
  details <- if (is.null(cells)) {
    json_attributes(json_rest(flat, count), attributes("observation"), values)
  } else {
    json_cell_attributes(cells, attributes("observation"), values, count)
  }
  grouped <- json_dimension_groups(
    series, obs, set$dimensionGroupAttributes, attributes("dimensionGroup"),
    dimensions, c(parts$dataSet, parts$series, parts$observation), values
  )
  for (name in names(grouped$attributes)) {
    texts <- details[[name]] %||% rep(NA_character_, length(time))
    details[[name]] <- ifelse(is.na(texts), grouped$attributes[[name]], texts)
  }
  # after the first of several measures come further measures, then attributes
  if (count > 1) {
    more <- lapply(stats::setNames(seq_len(count), measures), function(k) {
      if (is.null(cells)) {
        json_texts(flat, k)
      } else if (k <= nrow(cells)) {
        format_exact(cells[k, ])
      } else {
        rep(NA_character_, ncol(cells))
      }
    })
    obs[paste("measure", measures)] <- more
  }
  list(series = grouped$series, obs = obs, attributes = details)
}

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
