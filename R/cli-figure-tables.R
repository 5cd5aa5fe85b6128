# vetusta figure: figures of several series together, and of stored tables.

cli_tabled <- list(
  newest = function(options) {
    read <- cli_figure_read(options)
    over <- options$over %||% "1 year"
    rows <- lapply(read$tables, series_newest, over = over)
    newest <- cli_newest_joined(rows)
    places <- if (options$dots) {
      cli_figure_places(cli_archive(options), read$tables)
    }
    list(
      figure = figure_newest(
        newest, places,
        over = over, names = read$names,
        heading = read$heading, caption = read$caption, zone = read$zone,
        dark = options$dark
      ),
      said = counted(nrow(newest), "series", "series")
    )
  },
  correlation = function(options) {
    read <- cli_figure_read(options)
    pairs <- do.call(
      series_correlation,
      c(
        unname(read$tables),
        list(change = options$change %||% "log", zone = read$zone)
      )
    )
    list(
      figure = figure_correlation(
        pairs,
        caption = read$caption, dark = options$dark
      ),
      said = counted(nrow(pairs), "pair")
    )
  },
  revisions = function(options) {
    archive <- cli_archive(options)
    rows <- archive_revisions(archive, cli_ids(options$words), all = TRUE)
    read <- cli_figure_read(options)
    list(
      figure = figure_revisions(
        rows,
        dark = options$dark, names = read$names, heading = read$heading,
        caption = read$caption, zone = read$zone,
        unit = unique(unlist(lapply(read$tables, `[[`, "unit")))[1]
      ),
      said = counted(nrow(rows), "release")
    )
  },
  coverage = function(options) {
    archive <- cli_archive(options)
    series <- archive_series(archive)
    if (length(options$words)) {
      matches <- archive_find(archive, cli_ids(options$words))
      series <- series[series$id %in% matches$id, ]
    }
    list(
      figure = figure_coverage(
        series,
        zone = options$zone %||% "UTC",
        dark = options$dark,
        incomplete = archive_incomplete(archive)
      ),
      said = paste(nrow(series), "series")
    )
  },
  movers = function(options) {
    archive <- cli_archive(options)
    id <- if (length(options$words)) {
      options$words[1]
    } else {
      cli_dataset_of_shape(archive, "snapshot")
    }
    rows <- cli_rows_of(archive, id, options$as_of)
    if (is.null(rows[["before"]]) && !is.null(rows[["change"]])) {
      rows$before <- signif(rows$last - rows$change, 12)
    }
    names <- archive_names(archive, sub("/.*", "", id))
    moves <- rank_moves(
      rows, options$by %||% "up", cli_number(options, "limit", 1) %||% 12
    )
    list(
      figure = figure_movers(
        moves,
        names = names,
        caption = paste0("source: ", id),
        dark = options$dark
      ),
      said = counted(nrow(moves), "row")
    )
  },
  statement = function(options) {
    archive <- cli_archive(options)
    if (!length(options$words)) cli_usage_error("name a company")
    id <- cli_dataset_of_shape(archive, "facts")
    facts <- cli_facts(archive, id, options)
    items <- intersect(
      c(
        "revenue", "operating_profit", "net_profit", "total_assets", "equity",
        "operating_cash_flow"
      ),
      facts$item
    )
    done <- facts_statement(
      facts,
      options$words,
      items = if (length(items)) items,
      form = "long",
      limit = 8
    )
    list(
      figure = figure_statement(
        done,
        caption = paste0("source: ", id),
        dark = options$dark
      ),
      said = counted(nrow(done), "figure")
    )
  }
)

# The newest values of several tables in one order.
cli_newest_joined <- function(parts) {
  if (length(parts) == 1) {
    return(parts[[1]])
  }
  rows <- as.data.frame(data.table::rbindlist(parts, use.names = TRUE))
  rows$rank <- ranks_of_unit(rows$value, rows$unit)
  rows$rank_before <- ranks_of_unit(rows$before, rows$unit)
  rows[order(rows$unit, rows$rank, rows$series), , drop = FALSE]
}

# Places with coordinates of the sources of some tables.
cli_figure_places <- function(archive, tables) {
  sources <- unique(sub("/.*", "", unlist(lapply(tables, attr, "source"))))
  datasets <- datasets_of_shape(archive_datasets(archive), "places")
  datasets <- datasets[datasets$source %in% sources, , drop = FALSE]
  if (!nrow(datasets)) {
    cli_usage_error("no places are stored of these series' sources")
  }
  parts <- lapply(seq_len(nrow(datasets)), function(i) {
    rows <- as.data.frame(
      archive_rows(archive, datasets$source[i], datasets$dataset[i])
    )
    rows[intersect(c("place", "latitude", "longitude"), names(rows))]
  })
  as.data.frame(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
}

cli_joined_bars <- function(tables) {
  if (length(tables) == 1) {
    return(tables[[1]])
  }
  joined <- bars_frame(
    as.data.frame(
      data.table::rbindlist(
        unname(lapply(tables, as.data.frame)),
        use.names = TRUE, fill = TRUE
      )
    )
  )
  with_interval(joined, attr(tables[[1]], "interval"))
}
