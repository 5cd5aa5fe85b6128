# A selection of statistics as people get it from an office: the URL of its
# data, a part of it, a dotted key, or the link of a page that builds queries.

#' Query by a pasted selection
#'
#' Reads a selection as a statistics office writes it, and makes the query that
#' it stands for.
#'
#' @param source A source with an SDMX API, see [source_card()].
#' @param text The selection: the URL of data
#'   (`https://.../data/BSO,LOCK_TRAFFIC,1.0/M.ORV...?startPeriod=2020`), a part
#'   of it (`LOCK_TRAFFIC/M.ORV...`), a dotted key (`M.ORV...`, with `dataset`),
#'   or the link of a page whose parameters name a dataset and codes.
#' @param dataset The dataset's identifier, for a key alone.
#' @param archive An archive that stores structures.
#' @param ... Further arguments of [query_observations()], as `from`; they take
#'   precedence.
#' @return A `vetusta_query`, as from [query_observations()]. Its `reads` says
#'   the selection in words.
#' @section Errors: `vetusta_error_argument` for a text that names no dataset of
#'   the source, or a key with another number of dimensions.
#' @export
#' @examples
#' \dontrun{
#' basin <- source_card("basin")
#' text <- "LOCK_TRAFFIC/M.ORV.KELDER...?startPeriod=2020"
#' query <- query_selection(basin, text)
#' query$reads
#' }
query_selection <- function(source, text, dataset = NULL, archive = NULL, ...) {
  check_sdmx(source)
  check_text(text, "text")
  parts <- selection_parts(source, text, dataset, archive)
  more <- list(...)
  for (edge in c("from", "to")) {
    more[[edge]] <- more[[edge]] %||% parts[[edge]]
  }
  query <- do.call(
    query_observations,
    c(
      list(source, parts$dataset, keys = parts$keys, archive = archive),
      if (!is.null(parts$version)) list(version = parts$version), more
    )
  )
  query$reads <- selection_words(query$about, query$selection, more)
  query
}

# Whether a word is a selection rather than the name of a dataset.
is_selection <- function(word) {
  grepl("[/?]", word) || is_dotted_key(word)
}

is_dotted_key <- function(word) {
  grepl("^[A-Za-z0-9_*+-]*([.][A-Za-z0-9_*+-]*){2,}$", word)
}

# list(dataset, version, keys, from, to) of a selection.
selection_parts <- function(source, text, dataset = NULL, archive = NULL) {
  text <- trimws(text)
  fragment <- sub("^[^#]*#?", "", text)
  path <- sub("[?#].*", "", text)
  query <- sub("^[^?#]*[?]?", "", sub("#.*", "", text))
  # pages of one file keep their state in the fragment
  if (grepl("[?&=]", fragment)) {
    query <- paste(query, sub("^.*[?]", "", fragment), sep = "&")
  }
  values <- selection_values(query)
  steps <- utils::URLdecode(
    strsplit(sub("^https?://[^/]*", "", path), "/", fixed = TRUE)[[1]]
  )
  steps <- steps[nzchar(steps)]
  found <- selection_dataset(source, dataset, steps, values, archive)
  about <- datasets_describe(
    source, found$dataset, found$version %||% "latest",
    archive = archive
  )
  dimensions <- about$dimensions$id[about$dimensions$role != "time"]
  keys <- list()
  for (name in names(values)) {
    id <- dimensions[tolower(dimensions) == tolower(
      sub("^c\\[(.*)\\]$", "\\1", name)
    )]
    if (length(id)) keys[[id]] <- strsplit(values[[name]], "[,+ ]")[[1]]
  }
  candidates <- c(steps, unlist(values))
  key <- Filter(is_dotted_key, setdiff(candidates, found$said))
  if (length(key)) keys <- c(selection_key(key[1], dimensions, about$id), keys)
  window <- selection_window(values)
  c(
    found[c("dataset", "version")],
    list(keys = keys[lengths(keys) > 0], from = window$from, to = window$to)
  )
}

# Parameters by name, decoded.
selection_values <- function(query) {
  parts <- strsplit(query, "&", fixed = TRUE)[[1]]
  parts <- parts[grepl("=", parts, fixed = TRUE)]
  values <- utils::URLdecode(
    gsub("+", "%2B", sub("^[^=]*=", "", parts), fixed = TRUE)
  )
  values <- iconv(values, "UTF-8", "UTF-8", sub = "?")
  as.list(stats::setNames(values, utils::URLdecode(sub("=.*", "", parts))))
}

# The dataset: given, or the first part that names one, as FLOW,
# AGENCY,FLOW,VERSION or AGENCY:FLOW(VERSION).
selection_dataset <- function(source, dataset, steps, values, archive) {
  if (!is.null(dataset)) {
    return(list(dataset = check_text(dataset, "dataset"), said = dataset))
  }
  known <- vapply(all_flows(source, archive), `[[`, "", "id")
  for (text in c(steps, unlist(values))) {
    parts <- strsplit(text, "[,:();]+")[[1]]
    at <- match(TRUE, parts %in% known)
    if (!is.na(at)) {
      # SDMX 3.0 has the version as the next step of the path
      versions <- c(parts[at + 1], steps[match(text, steps) + 1])
      version <- grep("^[0-9]+([.][0-9]+)*$", versions, value = TRUE)
      return(list(
        dataset = parts[at], said = c(text, version),
        version = if (length(version)) version[1]
      ))
    }
  }
  key <- Filter(is_dotted_key, steps)
  named <- setdiff(steps[!grepl("^(data|dataflow|rest|v[0-9])$", steps)], key)
  if (length(named)) key <- NULL
  vetusta_stop(
    "argument",
    if (length(key)) {
      paste0("The key ", key[1], " does not name its dataset.")
    } else {
      "The selection names no dataset of this source."
    },
    where = paste0("source ", source$source),
    todo = if (length(key)) {
      paste0(
        "name it before the key, as in ", source$source, " ", known[1], " ",
        key[1]
      )
    } else {
      suggest_word(c(named, "")[1], known)
    }
  )
}

# The codes of a dotted key by dimension.
selection_key <- function(key, dimensions, dataset) {
  parts <- strsplit(paste0(key, "."), ".", fixed = TRUE)[[1]]
  parts <- c(parts, rep("", max(0, length(dimensions) - length(parts))))
  if (length(parts) != length(dimensions)) {
    vetusta_stop(
      "argument",
      paste0(
        "The key ", key, " has ", counted(length(parts), "part"), ", and ",
        dataset, " has ", counted(length(dimensions), "dimension"), "."
      ),
      todo = paste0("write it as ", paste(dimensions, collapse = "."))
    )
  }
  codes <- lapply(strsplit(parts, "+", fixed = TRUE), function(part) {
    part[nzchar(part) & part != "*"]
  })
  stats::setNames(codes, dimensions)
}

# The window of a selection, by the usual names of its parameters.
selection_window <- function(values) {
  lower <- tolower(names(values))
  value <- function(pattern) {
    at <- grep(pattern, lower)
    if (length(at)) values[[at[1]]]
  }
  from <- value("^(start_?period|from|start|since|start_?(time|date|year))$")
  to <- value("^(end_?period|to|end|until|end_?(time|date|year))$")
  time <- value("^(c\\[time_period\\]|time_?period|time|period)$")
  if (!is.null(time)) {
    parts <- strsplit(time, "[,+ ]")[[1]]
    from <- from %||% sub("^ge:", "", parts[1])
    if (length(parts) > 1) to <- to %||% sub("^le:", "", parts[length(parts)])
    if (startsWith(time, "le:")) {
      to <- sub("^le:", "", time)
      from <- NULL
    }
  }
  list(from = from, to = to)
}

# A selection in words: the labels of its codes.
selection_words <- function(about, selection, window) {
  parts <- vapply(names(selection)[lengths(selection) > 0], function(id) {
    list <- about$codes[[id]]
    labels <- vapply(selection[[id]], function(code) {
      at <- match(code, list$id)
      if (is.na(at)) {
        code
      } else {
        label_in(lapply(list$labels, `[`, at), "en") %|na|% code
      }
    }, "")
    paste0(
      about$dimensions$title[match(id, about$dimensions$id)], ": ",
      few_words(labels, 6)
    )
  }, "")
  paste(
    c(
      paste0(about$id, ", ", about$title),
      if (length(parts)) parts else "all series",
      if (!is.null(window$from)) paste("from", window$from),
      if (!is.null(window$to)) paste("to", window$to)
    ),
    collapse = "; "
  )
}
