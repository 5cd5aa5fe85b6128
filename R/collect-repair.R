# Repair of damaged rows: from pages that the archive keeps, else from the
# source.

#' Repair damaged rows of an archive
#'
#' Finds the stretches of series whose rows are damaged, or were altered, added
#' or removed in a column store, and puts the rows back: from the pages that the
#' archive keeps (`raw = TRUE` of [collect_run()]), with their history, or from
#' the source, as it has them now.
#'
#' @param archive An archive, see [archive_open()].
#' @param sources A named list of sources, see [source_card()]; those of the
#'   damaged series are needed.
#' @param dry Whether to only report what a repair would take.
#' @param progress Whether to show progress on standard error.
#' @return A tibble of class `vetusta_repair` with a row per stretch: `series`
#'   (its ID), `from` and `to` (`POSIXct`, UTC; `to` is excluded), `why`
#'   (`damaged`, `altered`, `added`, `removed`), `by` (`pages`, `source`, or
#'   `nothing`, where neither has the rows), `requests` (how many the source
#'   needs), `outcome` (`NA` if dry; `as before`, where the rows are those that
#'   were stored; `as the source has them`; `incomplete`; `none`). Its attribute
#'   `kept` is the Parquet file with the rows as they were found. A repair that
#'   was stopped, or whose source did not answer, goes on when it is run again.
#' @section Errors: `vetusta_error_archive` if a collector is using the archive.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' collect_repair(archive)
collect_repair <- function(archive, sources = list(), dry = TRUE,
                           progress = interactive()) {
  check_archive(archive)
  check_flag(dry, "dry")
  check_flag(progress, "progress")
  check_sources(sources)
  damage <- with_unfinished(archive, store_damaged(archive))
  series <- store_series(archive, ids = unique(damage$series))
  plans <- lapply(seq_len(nrow(damage)), function(i) {
    repair_plan(archive, sources, series, damage[i, ])
  })
  each <- function(name, absent) {
    vapply(plans, function(plan) plan[[name]] %||% absent, absent)
  }
  out <- as_rows(list(
    series = series_id(series[match(damage$series, series$id), ]),
    from = utc(damage$from), to = utc(damage$to), why = damage$why,
    by = each("by", ""), requests = each("requests", 0),
    outcome = rep(NA_character_, nrow(damage))
  ))
  if (!dry && any(out$by != "nothing")) {
    if (store_in_use(archive)) {
      vetusta_stop(
        "archive", "A collector is using the archive.",
        where = archive$path,
        todo = "wait until it ends, or stop it, and repeat the command"
      )
    }
    kept <- repair_kept(archive, series, damage)
    out$outcome <- vapply(plans, function(plan) {
      repair_stretch(archive, plan, progress)
    }, "")
    store_settle(archive)
    attr(out, "kept") <- kept
  }
  structure(out, class = c("vetusta_repair", class(out)))
}

check_sources <- function(sources) {
  if (!is.list(sources) || inherits(sources, "vetusta_source") ||
    !all(vapply(sources, inherits, TRUE, "vetusta_source"))) {
    vetusta_stop(
      "argument", "`sources` must be a list of sources.",
      todo = "write it as list(quay = source_card(\"sources/quay.yml\"))"
    )
  }
}

# How a stretch is repaired: list(damage, series, by, requests, pages, query,
# source).
repair_plan <- function(archive, sources, series, damage) {
  one <- series[match(damage$series, series$id), ]
  plan <- list(damage = damage, series = one, by = "nothing", requests = 0)
  source <- sources[[one$source]]
  if (is.null(source)) {
    return(plan)
  }
  plan$source <- source
  came <- store_origins(archive, one, damage$from, damage$to)
  raw <- store_raw(archive, one$source, one$dataset)
  pages <- unique(came$journal)
  if (length(pages) && all(pages %in% raw$journal) &&
    !is.null(source$datasets[[one$dataset]])) {
    plan$by <- "pages"
    plan$pages <- raw[raw$journal %in% pages, ]
    return(plan)
  }
  plan$query <- tryCatch(
    repair_query(archive, source, one, damage$from, damage$to),
    vetusta_error = function(e) NULL
  )
  if (!is.null(plan$query)) {
    plan$by <- "source"
    plan$requests <- plan_requests(plan$query)$pages
  }
  plan
}

# The query of a stretch of a series, by the keys under which it was collected.
repair_query <- function(archive, source, series, from, to) {
  keys <- covered_keys(archive, series)
  dimensions <- as.list(series_dimensions(series))
  dataset <- source$datasets[[series$dataset]]
  window <- repair_window(archive, series, from, to)
  if (is.null(dataset)) {
    return(query_observations(
      source, series$dataset,
      from = format(local_day(window$from, "UTC")),
      to = format(local_day(window$to, "UTC")),
      archive = archive, keys = dimensions
    ))
  }
  if (gives_bars(dataset)) {
    session <- sub("^.* ", "", keys[1])
    return(query_bars(
      source, dimensions$symbol,
      interval = series$frequency, from = window$from, to = window$to,
      session = if (is.na(session)) "regular" else session,
      dataset = series$dataset
    ))
  }
  named <- keys[startsWith(keys, "{")]
  asked <- if (length(named)) {
    jsonlite::fromJSON(named[1])
  } else {
    dimensions[intersect(names(dimensions), dataset_gives(dataset))]
  }
  if (!has_window(dataset)) window <- NULL
  do.call(query_rows, c(list(source, series$dataset), asked, window))
}

# Stretches of repairs that did not end, with what is damaged now.
with_unfinished <- function(archive, damage) {
  notes <- store_notes(archive, "repair")
  for (value in notes$value) {
    begun <- as.data.frame(jsonlite::fromJSON(value)$damage)
    if (is.null(begun$hash)) begun$hash <- NA_character_
    there <- damage$series == begun$series & damage$from == begun$from
    damage <- rbind(damage[!there, ], begun[names(no_damage)])
  }
  damage
}

repair_key <- function(series, from, to) {
  paste(series$id, format_exact(from), format_exact(to))
}

# The covered ranges within a stretch; of a repair that has begun, those before.
repair_covered <- function(archive, series, from, to) {
  begun <- store_notes(
    archive, "repair", series$source, series$dataset,
    repair_key(series, from, to)
  )$value
  if (length(begun)) {
    return(as.data.frame(jsonlite::fromJSON(begun)$covered))
  }
  keys <- covered_keys(archive, series)
  ranges <- store_covered(archive, series$source, series$dataset, keys)
  ranges <- ranges[
    ranges$key %in% keys & ranges$start < to & ranges$end > from,
  ]
  ranges$start <- pmax(ranges$start, from)
  ranges$end <- pmin(ranges$end, to)
  ranges
}

# A stretch within what was collected.
repair_window <- function(archive, series, from, to) {
  ranges <- repair_covered(archive, series, from, to)
  list(
    from = utc(if (nrow(ranges)) min(ranges$start) else from),
    to = utc(if (nrow(ranges)) max(ranges$end) else to)
  )
}

# The rows as they are, in a Parquet file beside the archive.
repair_kept <- function(archive, series, damage) {
  parts <- lapply(seq_len(nrow(damage)), function(i) {
    one <- series[match(damage$series[i], series$id), ]
    rows <- store_found(archive, one, damage$from[i], damage$to[i])
    if (length(rows$time)) c(list(series = series_id(one)), rows)
  })
  rows <- data.table::rbindlist(parts, use.names = TRUE, fill = TRUE)
  if (!nrow(rows)) {
    return(NULL)
  }
  file <- sub(
    "-before-drop-(.*)[.]sqlite$", "-before-repair-\\1.parquet",
    drop_backup(archive)
  )
  nanoparquet::write_parquet(list_frame(parquet_instants(rows, TRUE)), file)
  file
}

# A repair that has begun is noted, so that it goes on after a stop.
repair_stretch <- function(archive, plan, progress) {
  damage <- plan$damage
  series <- plan$series
  if (plan$by == "nothing") {
    return("none")
  }
  key <- repair_key(series, damage$from, damage$to)
  gone <- repair_covered(archive, series, damage$from, damage$to)
  store_note(
    archive, "repair", series$source, series$dataset, key,
    as.character(jsonlite::toJSON(
      list(damage = damage, covered = gone),
      digits = I(17)
    ))
  )
  store_cut(archive, series, damage$from, damage$to)
  result <- tryCatch(
    repairers[[plan$by]](archive, plan, gone, progress),
    vetusta_error = function(e) {
      warning(e$what, " ", e$todo, call. = FALSE)
      NULL
    }
  )
  if (is.null(result) || nrow(result$failed) || isTRUE(result$left > 0)) {
    return("incomplete")
  }
  store_forget(archive, "repair", series$source, series$dataset, key)
  now <- store_stretch_sum(archive, plan$series, damage$from, damage$to)
  same <- is.na(damage$hash) || identical(now$hash, damage$hash)
  if (same && now$rows == damage$rows) {
    "as before"
  } else {
    "as the source has them"
  }
}

repairers <- list(
  pages = function(archive, plan, gone, progress) {
    result <- reparse_kept(
      plan$source, plan$series$dataset, archive, plan$pages
    )
    if (!nrow(result$failed)) {
      store_put(archive, list(
        source = plan$series$source, dataset = plan$series$dataset,
        shape = plan$series$shape, covered = gone
      ))
    }
    result
  },
  source = function(archive, plan, gone, progress) {
    collect_run(
      plan_requests(plan$query, archive, again = TRUE), archive,
      progress = progress
    )
  }
)

#' @rdname collect_repair
#' @param x A repair.
#' @param ... Unused.
#' @export
print.vetusta_repair <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}

#' @rdname collect_repair
#' @export
format.vetusta_repair <- function(x, ...) {
  if (!nrow(x)) {
    return("nothing to repair")
  }
  by <- c(
    pages = "from kept pages", source = "from the source",
    nothing = "neither pages nor source: left as it is"
  )
  day <- function(time) format(local_day(time, "UTC"))
  lines <- paste0(
    x$series, ", ", day(x$from), " to ", day(x$to - 1), ": ", x$why, "; ",
    by[x$by],
    ifelse(
      x$requests > 0,
      paste0(" (", vapply(x$requests, counted, "", "request"), ")"), ""
    ),
    ifelse(is.na(x$outcome) | x$by == "nothing", "", paste0(": ", x$outcome))
  )
  kept <- attr(x, "kept")
  c(lines, if (length(kept)) paste0("\nthe rows as they were: ", kept))
}
