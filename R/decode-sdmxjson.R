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
