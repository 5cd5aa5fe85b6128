#' Query observations of statistics
#'
#' @param source A source with an SDMX API.
#' @param dataset A dataset's identifier, see [datasets_find()].
#' @param ... Dimensions by name, in any order: codes or labels in any language
#'   of the service, patterns (`"grain*"`), all children of a code (`"GRAIN/*"`)
#'   or all codes below it (`"GRAIN/**"`), or `"*"` for everything. Other
#'   dimensions are not restricted.
#' @param from,to The window, years, periods or days (`"2015"`, `"2015-Q1"`,
#'   `"2015-03"`); `to` is included.
#' @param updated_after Only values updated after this instant, if the service
#'   supports it.
#' @param first_n,last_n Only this many first or last values of each series.
#' @param history Whether to request all releases, if the service has them.
#' @param detail `"full"`, or `"dataonly"` for values without attributes.
#' @param flat Whether to request a message without series, in which each value
#'   has all its dimensions.
#' @param version The dataset's version; by default the latest.
#' @param language The language of labels in messages.
#' @param archive An archive that stores structures.
#' @param keys A named list of further dimensions and their codes, for a
#'   dimension with the name of an argument, as `list(from = "ORV")`.
#' @return A `vetusta_query` for [plan_requests()]: its `selection` has codes by
#'   dimension, in the order of the structure.
#' @section Errors: `vetusta_error_argument` for an unknown dataset, dimension
#'   or code, with the nearest known ones, before any request for data. A code
#'   without data is reported in `notes`.
#' @export
#' @examples
#' \dontrun{
#' basin <- source_card("basin")
#' query <- query_observations(basin, "LOCK_TRAFFIC",
#'   STATE = c("ORV", "Teskland"), CARGO =
#'     "grain*",
#'   from = "2015"
#' )
#' plan_requests(query)
#' }
query_observations <- function(source, dataset, ..., from = NULL, to = NULL,
                               updated_after = NULL, first_n = NULL,
                               last_n = NULL, history = FALSE, detail = "full",
                               flat = FALSE, version = "latest",
                               language = "en", archive = NULL, keys = list()) {
  about <- datasets_describe(source, dataset, version, language, archive)
  if (!is.list(keys)) {
    vetusta_stop(
      "argument", "`keys` must be a list of dimensions and their codes.",
      todo = "write it as keys = list(STATE = \"ORV\")"
    )
  }
  asked <- c(list(...), keys)
  if (length(asked) && (is.null(names(asked)) || any(!nzchar(names(asked))))) {
    vetusta_stop(
      "argument", "Codes need the name of their dimension.",
      todo = "write them as STATE = \"ORV\""
    )
  }
  dimensions <- about$dimensions$id[about$dimensions$role != "time"]
  selection <- stats::setNames(vector("list", length(dimensions)), dimensions)
  notes <- character()
  ids <- vapply(names(asked), match_dimension, "", about = about)
  for (id in unique(ids)) {
    # a dimension may be given several times
    codes <- match_codes(unlist(asked[ids == id], use.names = FALSE), id, about)
    notes <- c(
      notes,
      shared_labels(unlist(asked[ids == id], use.names = FALSE), id, about)
    )
    without <- if (!is.null(about$available[[id]])) {
      setdiff(codes, about$available[[id]])
    }
    if (length(without)) {
      notes <- c(
        notes,
        paste0(
          id, " ", paste(utils::head(without, 5), collapse = ", "),
          if (length(without) > 5) " and more",
          ": the code exists, and no data are available for it"
        )
      )
    }
    selection[id] <- list(codes)
  }
  window <- observation_window(from, to)
  dataset <- dataflow_named(about$id)
  dataset$title <- about$title
  dataset$keep <- source$sdmx$keep_values
  parameters <- list(
    updatedAfter = if (!is.null(updated_after)) {
      format_instant(time_instant(updated_after))
    },
    firstNObservations = if (!is.null(first_n)) check_count(first_n, "first_n"),
    lastNObservations = if (!is.null(last_n)) check_count(last_n, "last_n"),
    includeHistory = if (isTRUE(history)) "true",
    detail = if (check_choice(detail, "detail", c("full", "dataonly")) !=
      "full" &&
      !sdmx_is_3(source)) {
      detail
    },
    # SDMX 3.0 has attributes and measures in place of 2.1's detail
    attributes = if (detail == "dataonly" && sdmx_is_3(source)) "none",
    measures = if (detail == "dataonly" && sdmx_is_3(source)) "all",
    dimensionAtObservation = if (isTRUE(flat)) "AllDimensions"
  )
  new_query(
    "observations",
    source = source, dataset = dataset, about = about,
    selection = selection, window = window, parameters = parameters,
    symbols = character(), notes = notes
  )
}

match_dimension <- function(name, about) {
  ids <- about$dimensions$id[about$dimensions$role != "time"]
  matches <- ids[tolower(ids) == tolower(name)]
  if (!length(matches)) {
    matches <- ids[
      tolower(about$dimensions$title[about$dimensions$role != "time"]) ==
        tolower(name)
    ]
  }
  if (length(matches) != 1) {
    vetusta_stop(
      "argument",
      paste0("The dataset ", about$id, " has no dimension \"", name, "\"."),
      todo = paste0(
        suggest_word(name, ids),
        if (!is.null(nearest_word(name, ids))) {
          paste0(" It has ", paste(ids, collapse = ", "), ".")
        }
      )
    )
  }
  matches
}

match_codes <- function(values, id, about) {
  list <- about$codes[[id]]
  values <- if (is.numeric(values)) {
    plain_numbers(values)
  } else {
    as.character(values)
  }
  if (is.null(list)) {
    return(values)
  }
  known <- function(text) {
    length(
      tryCatch(
        match_code(text, id, list),
        vetusta_error_argument = function(e) NULL
      )
    ) >
      0 ||
      text %in% c("*", "all")
  }
  unique(
    unlist(lapply(split_codes(values, known), match_code, id = id, list = list))
  )
}

# A label of several codes means all of them, with a note.
shared_labels <- function(values, id, about) {
  list <- about$codes[[id]]
  values <- unique(as.character(values))
  if (is.null(list)) {
    return(NULL)
  }
  unlist(
    lapply(
      values[!grepl("[*?]", values) & !values %in% list$id],
      function(value) {
        codes <- exact_code(value, list)
        if (length(codes) > 1) {
          paste0(
            id, " \"", value, "\" is the label of ", length(codes),
            " codes, and all are taken: ", few_words(codes, 5)
          )
        }
      }
    )
  )
}

match_code <- function(value, id, list) {
  if (value %in% c("*", "all")) {
    return(NULL)
  }
  codes <- if (grepl("/[*]{1,2}$", value)) {
    code_children(value, id, list)
  } else if (grepl("[*?]", value)) {
    list$id[code_matches(glob_pattern(value), list)]
  } else {
    exact_code(value, list)
  }
  if (!length(codes)) {
    labels <- unlist(list$labels, use.names = FALSE)
    known <- c(list$id, labels[!is.na(labels)])
    vetusta_stop(
      "argument",
      paste0("The dimension ", id, " has no code \"", value, "\"."),
      todo = if (grepl("[*?]", value)) {
        paste0(
          "its codes are ", paste(utils::head(list$id, 20), collapse = ", ")
        )
      } else {
        near_codes(value, list, known)
      }
    )
  }
  codes
}

exact_code <- function(value, list) {
  if (value %in% list$id) {
    return(value)
  }
  hit <- tolower(list$id) == tolower(value)
  for (labels in list$labels) {
    hit <- hit | (!is.na(labels) & tolower(labels) == tolower(value))
  }
  list$id[hit]
}

# A pattern with * and ? as a regular expression; other characters stand for
# themselves.
glob_pattern <- function(value) {
  signs <- strsplit(tolower(value), "")[[1]]
  paste0(
    "^",
    paste(
      ifelse(
        signs == "*", ".*",
        ifelse(
          signs == "?", ".",
          ifelse(grepl("[[:alnum:] _]", signs), signs, paste0("\\", signs))
        )
      ),
      collapse = ""
    ),
    "$"
  )
}

code_matches <- function(pattern, list) {
  hit <- grepl(pattern, tolower(list$id), perl = TRUE)
  for (labels in list$labels) {
    hit <- hit | (!is.na(labels) & grepl(pattern, tolower(labels), perl = TRUE))
  }
  hit
}

code_children <- function(value, id, list) {
  parent <- match_code(sub("/[*]{1,2}$", "", value), id, list)
  children <- split(list$id, list$parent)
  below <- unlist(children[parent], use.names = FALSE)
  if (!grepl("[*]{2}$", value)) {
    return(below)
  }
  # level by level, without repeating a code, even if parents form a circle
  seen <- below
  while (length(below)) {
    below <- unlist(children[below], use.names = FALSE)
    below <- below[!below %in% c(seen, parent)]
    seen <- c(seen, below)
  }
  unique(seen)
}

# The three nearest codes, by code or label.
near_codes <- function(value, list, known) {
  distance <- utils::adist(tolower(value), tolower(known), partial = FALSE)[1, ]
  near <- unique(
    known[order(distance)][sort(distance) <= max(3, nchar(value) / 2)]
  )
  if (length(near)) {
    paste0(
      "did you mean ",
      paste0("\"", utils::head(near, 3), "\"", collapse = " or "), "?"
    )
  } else {
    paste0(
      "its codes are ", paste(utils::head(list$id, 20), collapse = ", "),
      if (length(list$id) > 20) " and more"
    )
  }
}

# Periods as they were written; days for other dates.
observation_window <- function(from, to) {
  read <- function(x, name) {
    if (is.null(x)) {
      return(NULL)
    }
    if (inherits(x, "Date")) x <- format(x)
    period <- time_periods(as.character(x))
    if (is.na(period$first)) {
      vetusta_stop(
        "argument",
        paste0(
          "`", name, "` cannot be \"", x,
          "\": it is neither a period nor a day."
        ),
        todo = "write it as 2015, 2015-Q1, 2015-03 or 2015-03-12"
      )
    }
    list(text = as.character(x), first = period$first, last = period$last)
  }
  window <- list(from = read(from, "from"), to = read(to, "to"))
  if (!is.null(from) && !is.null(to) && window$from$first > window$to$last) {
    vetusta_stop(
      "argument",
      paste0("The query begins (", from, ") after its end (", to, ")."),
      todo = "swap `from` and `to`"
    )
  }
  window
}
