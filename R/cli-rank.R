cli_rank <- function(arguments) {
  options <- cli_arguments(
    arguments, "rank", "SOURCE/DATASET|ID... [CONDITION...]",
    c(
      list(
        cli_option("by", "[up]", default = "up"),
        cli_option("limit", "rows [12]", default = "12"),
        cli_option(
          "min-volume", "what an instrument must have traded [1000]",
          default = "1000", metavar = "N"
        ),
        cli_option(
          "min-price", "what it must cost [1]",
          default = "1", metavar = "N"
        ),
        cli_option(
          "type", "type of instrument as in the directory, or any [share]",
          default = "share", metavar = "WORD"
        ),
        cli_option("list", "; the symbols"),
        cli_option("on", "the day; by default the newest", metavar = "DAY"),
        cli_option(
          "window", "in which earlier highs and lows are looked for [1 year]",
          default = "1 year"
        ),
        cli_option("as-of"), cli_option("members")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta rank quay/market --limit 10",
      "vetusta rank quay/market --by traded name~barge",
      "vetusta rank \"quay/bars/*@1 day\" --by high --on 2026-03-20",
      "vetusta rank \"basin/FREIGHT_PRICES/*\""
    ),
    least = 1
  )
  archive <- cli_archive(options)
  sign <- grepl("[=<>~]", options$words)
  words <- join_stored_dataset(archive, options$words[!sign])
  if (!length(words)) {
    cli_usage_error("name a snapshot, as quay/market, or series IDs of days")
  }
  newest <- cli_rank_newest(archive, words, options)
  if (!is.null(newest)) {
    return(cli_put(newest, options))
  }
  ranked <- cli_ranked(archive, words, options$words[sign], options)
  done <- ranked$rows
  shown <- c(
    "rank", "symbol", "name", "type", "last", "before", "change", "percent",
    "volume", if (options$by %in% c("range", "high", "low")) "score",
    if (any(done$tied)) "tied"
  )
  cli_put(rank_digits(done[intersect(shown, names(done))]), options)
  if (!is.null(options$list)) cli_write_list(done$symbol, options$list)
  cli_rank_said(done, ranked$how)
}

# The newest values of statistics in order; NULL for other datasets.
cli_rank_newest <- function(archive, words, options) {
  series <- tryCatch(
    archive_find(archive, words),
    vetusta_error_argument = function(e) NULL
  )
  if (!NROW(series) ||
    nrow(datasets_of_shape(series, "observations")) < nrow(series)) {
    return(NULL)
  }
  tables <- archive_read(
    archive, series$id,
    to = options$on, as_of = options$as_of
  )
  rows <- cli_newest_joined(
    lapply(tables, series_newest, over = options$window)
  )
  names <- archive_drawn_names(archive, tables, unique(series$source))
  rows <- as.data.frame(rows)
  rows$name <- unname(names[rows$series])
  rows$change_percent <- round(100 * rows$change, 2)
  utils::head(
    rows[c(
      "rank", "series", "name", "time", "value", "unit", "before",
      "change_percent", "rank_before"
    )],
    cli_number(options, "limit", 1)
  )
}

# list(rows, how): ranked instruments of a snapshot or of daily bars, and what
# to say about them.
cli_ranked <- function(archive, words, where, options) {
  datasets <- archive_datasets(archive)
  snapshots <- datasets_of_shape(datasets, "snapshot")
  plain <- length(words) == 1 &&
    words %in% paste0(snapshots$source, "/", snapshots$dataset)
  rows <- if (plain) {
    cli_rank_snapshot(archive, words, options)
  } else {
    cli_rank_days(archive, words, options)
  }
  source <- unique(
    sub("/.*", "", if (plain) words else archive_find(archive, words)$id)
  )
  if (!is.null(options$members)) {
    day <- options$on %||% options$as_of %||%
      max(as.Date(rows[["time"]] %||% rows[["at"]] %||% now_time()))
    members <- cli_members(options, day)
    said <- attr(rows, "how")
    rows <- rows[rows$symbol %in% members$symbol, , drop = FALSE]
    attr(rows, "how") <- c(said, paste0(
      "of the ", counted(nrow(members), "member"), " of ", options$members,
      " on ", format(day)
    ))
  }
  rows <- cli_rank_directory(archive, rows, source)
  typed <- mean(!is.na(rows[["type"]] %||% NA))
  # with an incomplete directory most types are unknown
  of_type <- options$type != "any" && typed > 0.9
  where <- c(where, if (of_type) paste0("type=", options$type))
  done <- rank_moves(
    rows, options$by, cli_number(options, "limit", 1),
    cli_number(options, "min_volume", 0), cli_number(options, "min_price", 0),
    where
  )
  list(
    rows = done,
    how = c(
      attr(rows, "how"),
      if (options$type != "any" && !of_type) {
        paste0(
          "of all types: the stored directory has the type of ",
          round(100 * typed), " % of them"
        )
      }
    )
  )
}

# Changes have the digits of the prices, percentages two.
rank_digits <- function(rows) {
  digits <- max(shown_digits(rows$last), shown_digits(rows[["before"]] %||% 0))
  for (name in intersect("change", names(rows))) {
    rows[[name]] <- round(rows[[name]], digits)
  }
  for (name in intersect(c("percent", "score"), names(rows))) {
    rows[[name]] <- round(rows[[name]], 2)
  }
  rows
}

cli_rank_said <- function(done, how) {
  left <- attr(done, "left_out")
  words <- c(
    volume = "below the volume", price = "below the price",
    where = "of another type", unknown = "without a price before or a new peak"
  )
  reasons <- names(left)[left > 0]
  count <- vapply(left[reasons], thousands, "")
  if (length(reasons)) {
    cli_say("left out: ", paste0(count, " ", words[reasons], collapse = ", "))
  }
  out <- attr(done, "tied_out")
  if (length(out)) {
    cli_say(
      "tied with the last row and not shown: ",
      paste(utils::head(out, 8), collapse = ", "),
      if (length(out) > 8) " and more"
    )
  }
  for (line in how) cli_say(line)
}

# Names and types from the stored directory of the source.
cli_rank_directory <- function(archive, rows, source) {
  datasets <- datasets_of_shape(archive_datasets(archive), "instruments")
  datasets <- datasets[datasets$source %in% source, ]
  if (nrow(datasets) != 1) {
    return(rows)
  }
  directory <- list_current(
    archive_rows(archive, datasets$source, datasets$dataset)
  )
  at <- match(rows$symbol, directory$symbol)
  for (name in setdiff(
    intersect(c("name", "type"), names(directory)), names(rows)
  )) {
    rows[[name]] <- directory[[name]][at]
  }
  rows
}

cli_rank_days <- function(archive, words, options) {
  series <- archive_find(archive, words)
  calendar <- cli_calendars(options, series)$calendar
  zone <- calendar$zone %||% "UTC"
  to <- options$on
  tables <- archive_read(
    archive, words,
    to = to, as_of = options$as_of, zone = zone
  )
  bars <- tables[vapply(tables, is_bars, TRUE)]
  if (length(bars) != 1) {
    cli_usage_error("name bars of a single interval, as \"quay/bars/*@1 day\"")
  }
  rows <- rank_days(bars[[1]], to, options$window, zone)
  without <- attr(rows, "without")
  attr(
    rows, "how"
  ) <- c(
    paste0("of ", local_day(rows$time[1], zone), ", against the close before"),
    if (length(without)) {
      paste0(
        "without a bar on it: ",
        paste(utils::head(without, 5), collapse = ", "),
        if (length(without) > 5) " and more"
      )
    }
  )
  rows
}

# A snapshot compared with an earlier stored one, else with the previous values
# it states itself.
cli_rank_snapshot <- function(archive, id, options) {
  parts <- strsplit(id, "/", fixed = TRUE)[[1]]
  at <- options$on %||% options$as_of
  rows <- archive_rows(archive, parts[1], parts[2], as_of = at)
  frames <- archive_rows(archive, parts[1], parts[2], as_of = at, all = TRUE)
  newest <- max(frames$at)
  earlier <- frames[frames$at < newest - 12 * 3600, ]
  if (nrow(earlier)) {
    earlier <- earlier[earlier$at == max(earlier$at), ]
    rows$before <- earlier$last[match(rows$symbol, earlier$symbol)]
    attr(
      rows, "how"
    ) <- paste0(
      "of ", format_instant(newest), ", against the snapshot of ",
      format_instant(earlier$at[1])
    )
  } else if (is.numeric(rows[["previous"]])) {
    rows$before <- rows$previous
    attr(rows, "how") <- "change from the previous price, from the snapshot"
  } else if (is.numeric(rows[["change"]])) {
    rows$before <- signif(rows$last - rows$change, 12)
    attr(
      rows, "how"
    ) <- paste0(
      "computed from the snapshot's change in price: no ",
      "earlier snapshot is stored"
    )
  }
  rows
}
