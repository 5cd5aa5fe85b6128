# Structures of a statistics office: fetched within the source's limits and
# stored with their validators.

structures_seen <- new.env(parent = emptyenv())

# A cache of decoded messages by hash; it may be emptied at any time.
structures_decoded <- new.env(parent = emptyenv())

decoded_structure <- function(body, where) {
  name <- content_hash(body)
  if (is.null(structures_decoded[[name]])) {
    if (length(ls(structures_decoded)) > 40) {
      rm(list = ls(structures_decoded), envir = structures_decoded)
    }
    structures_decoded[[name]] <- decode_structure(body, where)
  }
  structures_decoded[[name]]
}

# A decoded structure message: from the archive while it is recent, otherwise
# requested with its validators.
structure_get <- function(source, url, archive = NULL, where = "structure") {
  keep <- time_interval(source$sdmx$keep %||% "P1D")$seconds
  cached <- if (!is.null(archive)) {
    store_structure(archive, source$source, url)
  } else {
    structures_seen[[url]]
  }
  now <- now_seconds()
  # where no request may be made, the stored message counts however old it is
  only_stored <- isTRUE(source$only_stored)
  if (!is.null(cached) && (only_stored || now - cached$fetched < keep)) {
    return(decoded_structure(cached$body, where))
  }
  if (only_stored) {
    vetusta_stop(
      "payload", "The structure of the dataset is not known yet.",
      where = where,
      todo = "run `vetusta refresh`, which requests it from the source"
    )
  }
  headers <- list(
    Accept = sdmx_structure_accept(source),
    "Accept-Language" = paste(source$sdmx$languages %||% "en", collapse = ", ")
  )
  if (!is.null(cached$etag) && !is.na(cached$etag)) {
    headers[["If-None-Match"]] <- cached$etag
  }
  if (!is.null(cached$modified) && !is.na(cached$modified)) {
    headers[["If-Modified-Since"]] <- cached$modified
  }
  answer <- structure_fetch(
    source, list(url = url, method = "GET", headers = headers), archive
  )
  if (answer$status == 304 && !is.null(cached)) {
    if (!is.null(archive)) {
      store_structure_touch(archive, source$source, url)
    } else {
      structures_seen[[url]]$fetched <- now
    }
    return(decoded_structure(cached$body, where))
  }
  if (answer$status %in% c(404, 410)) {
    return(NULL)
  }
  if (answer$status != 200) {
    vetusta_stop(
      if (judge_status(answer$status) == "refused") "access" else "payload",
      paste0(
        "The source ", source$source, " returns no structure: HTTP ",
        answer$status, " ",
        redact(body_excerpt(answer$body), source_secrets(source))
      ),
      where = redact(url, source_secrets(source)),
      todo = "check the agency and the version in the card"
    )
  }
  decoded <- decoded_structure(answer$body, where)
  if (is.null(archive)) {
    structures_seen[[url]] <- list(
      etag = answer$headers$etag,
      modified = answer$headers[["last-modified"]],
      fetched = now,
      body = answer$body
    )
  } else {
    store_structure_put(
      archive, source$source, url, answer$headers$etag,
      answer$headers[["last-modified"]], answer$body
    )
  }
  decoded
}

# One request within the limits, with retries; a refused token is renewed once.
structure_fetch <- function(source, request, archive) {
  counter <- source_counter(source, archive)
  tokens <- new.env(parent = emptyenv())
  fetch <- function() {
    fetch_patiently(
      function() wire_signed(request, source, tokens),
      source$patience,
      counter,
      secrets = run_secrets(source, tokens)
    )
  }
  answer <- fetch()
  if (answer$status != 401 || !is_token_access(source$access)) {
    return(answer)
  }
  token_refused(tokens)
  fetch()
}

#' @rdname datasets_find
#' @param dataset A dataset's identifier.
#' @param version Its version; by default the latest.
#' @return `datasets_describe()`: a `vetusta_dataset`, a list of `id`, `agency`,
#'   `version`, `title`, `description`, `dimensions` (a data frame in the order
#'   of the structure: `id`, `role`, `title`, `codes`), `codes` (by dimension: a
#'   list of `id`, `parent`, `labels` by language), `attributes`, `start`,
#'   `end`, `cells` (`NA` if the service does not state them), `available`
#'   (codes by dimension that have data, if stated), `updated`, `example` (a
#'   command that works). For a dataset of a card: `source`, `id`, `title`,
#'   `shape`, `keys` (a data frame of `key`, `needed`, `values`), `intervals`,
#'   `window`, `columns`, `limits`, `cost`, `plan`, `stored` (series or rows)
#'   and `example`. Printing shows all of it.
#' @export
datasets_describe <- function(source, dataset, version = "latest",
                              language = "en", archive = NULL) {
  check_source_kind(source)
  check_text(dataset, "dataset")
  if (dataset %in% names(source$datasets)) {
    return(card_dataset(source, source$datasets[[dataset]], archive))
  }
  if (!speaks_sdmx(source)) {
    vetusta_stop(
      "argument",
      paste0(
        "The source ", source$source, " has no dataset \"", dataset, "\"."
      ),
      where = source$file,
      todo = suggest_word(dataset, names(source$datasets))
    )
  }
  where <- paste0("source ", source$source, ", dataset ", dataset)
  document <- structure_get(
    source,
    sdmx_structure_url(
      source, "dataflow", dataset, version,
      references = "all"
    ),
    archive, where
  )
  flow <- Filter(function(entry) identical(entry$id, dataset), document$flows)
  # of equal ids from several agencies the card's agency is meant
  if (length(flow) > 1) {
    flow <- Filter(
      function(entry) identical(entry$agency, source$sdmx$agency), flow
    ) |>
      (\(matching) if (length(matching)) matching else flow)()
  }
  if (!length(flow)) {
    known <- vapply(all_flows(source, archive), `[[`, "", "id")
    if (dataset %in% known) {
      vetusta_stop(
        "argument",
        paste0(
          "The dataset ", dataset, " has no version ", version, " any more."
        ),
        where = where, todo = "leave the version out: the latest is taken"
      )
    }
    vetusta_stop(
      "argument",
      paste0(
        "The source ", source$source, " has no dataset \"", dataset, "\"."
      ),
      todo = paste0(
        suggest_word(dataset, known), " `vetusta find` looks in titles too"
      )
    )
  }
  flow <- flow[[
    newest_version(
      vapply(flow, function(entry) entry$version %||% NA_character_, "")
    )
  ]]
  structure <- find_artefact(document$structures, flow$structure)
  if (is.null(structure)) {
    vetusta_stop(
      "payload", paste0("The service has no structure of ", dataset, "."),
      where = where, todo = "report it to the provider of the service"
    )
  }
  make_dataset(
    source, flow, structure, document,
    availability_of(source, flow, list(), archive), language, archive
  )
}

# The available codes of a selection; NULL where the service does not state
# them.
availability_of <- function(source, flow, selection, archive) {
  if (identical(source$sdmx$availability, FALSE)) {
    return(NULL)
  }
  url <- sdmx_data_url(
    source, flow, selection, if (!sdmx_is_3(source)) list(mode = "available"),
    available = TRUE
  )
  document <- tryCatch(
    structure_get(
      source, url, archive,
      paste0("source ", source$source, ", what is available of ", flow$id)
    ),
    vetusta_error_payload = function(e) NULL,
    vetusta_error_access = function(e) NULL
  )
  if (length(document$constraints)) document$constraints[[1]]
}

make_dataset <- function(source, flow, structure, document, available,
                         language, archive) {
  dimensions <- structure$dimensions
  concepts <- lapply(dimensions$concept_of, function(reference) {
    scheme <- find_artefact(document$concepts, reference)
    at <- match(reference$item, scheme$id)
    if (is.null(scheme) || is.na(at)) {
      NULL
    } else {
      list(
        labels = lapply(scheme$labels, `[`, at),
        codelist = scheme$more[[at]]
      )
    }
  })
  dimensions$title <- vapply(
    seq_along(concepts),
    function(i) {
      label_in(concepts[[i]]$labels, language) %|na|% dimensions$id[i]
    },
    ""
  )
  # a dimension without its own code list has that of its concept
  codes <- stats::setNames(
    lapply(seq_along(concepts), function(i) {
      find_artefact(
        document$codelists, dimensions$codelist[[i]] %||% concepts[[i]]$codelist
      )
    }),
    dimensions$id
  )
  codes <- lapply(codes[lengths(codes) > 0], `[`, c("id", "parent", "labels"))
  for (id in intersect(names(available$without), names(codes))) {
    available$codes[[id]] <- setdiff(
      available$codes[[id]] %||% codes[[id]]$id, available$without[[id]]
    )
  }
  dimensions$codes <- vapply(
    dimensions$id, function(id) length(codes[[id]]$id), 1L
  )
  if (!is.null(archive)) keep_labels(archive, source, flow$id, codes)
  result <- list(
    source = source$source,
    id = flow$id,
    agency = flow$agency,
    version = flow$version,
    title = in_language(flow$names, language),
    description = in_language(flow$descriptions, language),
    dimensions = dimensions[c("id", "role", "title", "codes")],
    # nolint
    codes = codes,
    attributes = structure$attributes,
    measures = structure$measures,
    start = available$start %||% NA_character_,
    end = available$end %||% NA_character_,
    cells = available$cells %||% NA_real_,
    available = available$codes,
    updated = unname(flow$annotations["updated"]) %||% NA_character_,
    language = language,
    flow = flow[c("agency", "id", "version")]
  )
  result$example <- example_command(result)
  structure(result, class = "vetusta_dataset")
}

# Labels are stored with the observations, so that they are available offline.
keep_labels <- function(archive, source, dataset, codes) {
  archive_codes_put(archive, source$source, dataset, codes)
}

example_command <- function(dataset) {
  pick <- lapply(
    dataset$dimensions$id[dataset$dimensions$role != "time"],
    function(id) {
      codes <- dataset$available[[id]] %||% dataset$codes[[id]]$id
      if (id == "FREQ" || length(codes) <= 1) {
        NULL
      } else {
        paste0(id, "=", codes[1])
      }
    }
  )
  start <- if (!is.na(dataset$end)) {
    paste0(" --from ", as.numeric(substr(dataset$end, 1, 4)) - 1)
  }
  paste0(
    "vetusta collect ", dataset$source, " ", dataset$id, " ",
    paste(utils::head(unlist(pick), 2), collapse = " "), start
  )
}

#' @export
print.vetusta_dataset <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}

#' @export
format.vetusta_dataset <- function(x, most = 12, ...) format_dataset(x, most)

format_dataset <- function(x, most = 12) {
  line <- function(name, text) {
    if (length(text) && !is.na(text)) {
      paste0("  ", formatC(name, width = -12), text)
    }
  }
  coverage <- if (!is.na(x$start)) paste(x$start, "to", x$end)
  head <- c(
    paste0(x$id, ": ", x$title),
    if (!is.na(x$description)) paste0("  ", strwrap(x$description, 110)),
    line("agency", paste0(x$agency, ", version ", x$version)),
    line("coverage", coverage %||% NA), line("updated", x$updated),
    line(
      "size",
      if (!is.na(x$cells)) {
        paste(format(x$cells, big.mark = ","), "values")
      } else {
        NA
      }
    ),
    ""
  )
  frame <- data.frame(x$dimensions[c("id", "role", "title", "codes")])
  frame$codes[frame$role == "time"] <- NA
  lists <- unlist(lapply(names(x$codes), function(id) {
    c(
      "", paste0(id, ":"),
      dataset_codes(x$codes[[id]], x$available[[id]], x$language, most)
    )
  }))
  c(head, text_table(frame), lists, "", paste0("example: ", x$example))
}

# Codes with their labels, children below their parents, with a note on codes
# without data.
dataset_codes <- function(list, available, language, most) {
  label <- code_labels(list, language)
  tree <- code_tree(list)
  depth <- pmin(tree$depth, 20L)
  order <- tree$order
  shown <- utils::head(order, most)
  width <- max(nchar(list$id[shown]) + 2 * depth[shown])
  lines <- paste0(
    "  ",
    formatC(paste0(strrep("  ", depth[shown]), list$id[shown]), width = -width),
    "  ", label[shown],
    if (length(available)) {
      ifelse(list$id[shown] %in% available, "", "  (no data)")
    }
  )
  c(
    lines,
    if (length(order) > most) paste0("  and ", length(order) - most, " more")
  )
}

# Children follow their parents in the list's order, and each code occurs once:
# `order`, and the `depth` of each code. A code whose ancestors form a circle
# has no parent.
code_tree <- function(list) {
  n <- length(list$id)
  parent <- match(list$parent, list$id)
  ring <- parent
  for (i in seq_len(ceiling(log2(n + 1)) + 1)) ring <- ring[ring]
  parent[!is.na(ring)] <- NA
  children <- split(seq_len(n), factor(parent, seq_len(n)))
  order <- depth <- stack <- integer(n)
  roots <- which(is.na(parent))
  stack[seq_along(roots)] <- rev(roots)
  top <- length(roots)
  filled <- 0L
  while (top > 0L) {
    at <- stack[top]
    top <- top - 1L
    filled <- filled + 1L
    order[filled] <- at
    below <- children[[at]]
    k <- length(below)
    if (k) {
      depth[below] <- depth[at] + 1L
      stack[top + seq_len(k)] <- rev(below)
      top <- top + k
    }
  }
  list(order = order, depth = depth)
}
