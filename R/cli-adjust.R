cli_adjust <- function(arguments) {
  options <- cli_arguments(
    arguments, "adjust", "ID...",
    c(
      list(
        cli_option(
          "of", "splits, or all for dividends too [splits]",
          default = "splits", metavar = "WORD"
        ),
        cli_option(
          "method", "cash: ratio, difference or total-return [ratio]",
          default = "ratio", metavar = "WORD"
        ),
        cli_option(
          "keep",
          "prices that stay as traded: last (the newest) or first [last]",
          default = "last", metavar = "WORD"
        ),
        cli_option(
          "actions",
          "dataset of the actions; by default that of the bars' source",
          metavar = "SOURCE/DATASET"
        ),
        cli_option(
          "known",
          paste0(
            "only actions that were announced and took place by this day; by ",
            "default now"
          ),
          metavar = "DAY"
        ),
        cli_option(
          "jumps", "show price jumps that look like an unreported action",
          flag = TRUE
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      "vetusta adjust \"KELD@1 day\"",
      "vetusta adjust \"YSLT@1 day\" --of all --known 2025-12-31",
      "vetusta adjust \"quay/bars/*@1 day\" --jumps"
    )
  )
  # dividends are sized by prices around them, which may lie after the window
  wanted <- options[c("from", "to")]
  options[c("from", "to")] <- list(NULL)
  read <- cli_series(options)
  archive <- cli_archive(options)
  rows <- cli_each(read, options, function(x, interval, read) {
    if (!is_bars(x)) {
      cli_usage_error("prices are adjusted, and these are no bars")
    }
    actions <- cli_actions(archive, options, read$sources)
    if (options$jumps) {
      return(bars_jumps(x, actions, zone = read$zone))
    }
    done <- bars_adjust(
      x, actions, options$of, options$method, options$keep,
      options$known %||% options$as_of %||% format_instant(now_time()),
      read$zone
    )
    cli_say_applied(attr(done, "applied"))
    cli_window(done, wanted, read$zone)
  })
  cli_put(rows, options, if (options$jumps) "jump" else "bar")
}

cli_actions <- function(archive, options, source = NULL) {
  id <- cli_dataset_of_shape(archive, "actions", options$actions, source)
  cli_rows_of(archive, id, options$as_of)
}

cli_say_applied <- function(applied) {
  if (!nrow(applied)) {
    return(cli_say("no action changes these prices"))
  }
  size <- ifelse(is.na(applied$ratio), applied$amount, applied$ratio)
  lines <- paste0(
    applied$symbol, " ", applied$ex_day, " ", applied$kind, " ",
    format_exact(size)
  )
  cli_say(
    "adjusted for ", counted(nrow(applied), "action"), ": ",
    paste(utils::head(lines, 4), collapse = "; "),
    if (length(lines) > 4) " and more"
  )
}

cli_continuous <- function(arguments) {
  options <- cli_arguments(
    arguments, "continuous", "ID...",
    c(
      list(
        cli_option(
          "roll",
          paste0(
            "when the next contract takes over: expiry, volume, ",
            "open-interest, or day (of the month) [expiry]"
          ),
          default = "expiry", metavar = "WORD"
        ),
        cli_option(
          "roll-days",
          paste0(
            "expiry: so many trading days before its end a contract counts ",
            "last [0]; day: the day of the month"
          ),
          metavar = "N"
        ),
        cli_option(
          "nth", "the contract that ends n-th from now [1]",
          default = "1",
          metavar = "N"
        ),
        cli_option("adjust", "[none]", default = "none"),
        cli_option(
          "keep",
          "prices that stay as traded: last (the newest) or first [last]",
          default = "last", metavar = "WORD"
        ),
        cli_option(
          "contracts",
          "dataset of the contracts; by default that of the bars' source",
          metavar = "SOURCE/DATASET"
        ),
        cli_option(
          "rolls", "show the rolls from contract to contract",
          flag = TRUE
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      paste0(
        "vetusta continuous \"quay/bars/GRN-*@1 day\" --roll volume ",
        "--adjust ratio"
      ),
      "vetusta continuous \"quay/bars/GRN-*@1 day\" --roll-days 5 --rolls"
    )
  )
  read <- cli_series(options)
  archive <- cli_archive(options)
  rows <- cli_each(read, options, function(x, interval, read) {
    if (!is_bars(x)) cli_usage_error("contracts are bars, and these are none")
    id <- cli_dataset_of_shape(
      archive, "contracts", options$contracts, read$sources
    )
    done <- bars_continuous(
      x, cli_rows_of(archive, id, options$as_of), options$roll,
      cli_number(options, "roll_days", 0) %||%
        if (options$roll == "day") 1 else 0,
      cli_number(options, "nth", 1), options$adjust, options$keep,
      read$calendar, read$zone
    )
    if (options$rolls) attr(done, "rolls") else done
  })
  cli_put(rows, options, if (options$rolls) "roll" else "bar")
}

cli_join <- function(arguments) {
  options <- cli_arguments(
    arguments, "join", "ID ID...",
    c(
      list(
        cli_option("adjust", "[none]", default = "none"),
        cli_option(
          "overlap",
          "length of the common period to compare, at its end",
          metavar = "LENGTH"
        ),
        cli_option(
          "tolerance",
          "allowed relative difference of two values at one time [0.02]",
          default = "0.02", metavar = "PART"
        ),
        cli_option(
          "differences", "show where the sources disagree, instead",
          flag = TRUE
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      paste0(
        "vetusta join \"quay/bars/KELD@1 day\" \"files/import/KELD@1 day\" ",
        "--adjust ratio"
      ),
      "vetusta join kelder-lock tamm-weir --adjust difference --differences"
    )
  )
  if (is.null(options$input) && length(options$words) < 2) {
    cli_usage_error("name two series or more, the preferred series first")
  }
  # each series by itself, in the order of the words
  parts <- if (!is.null(options$input)) {
    cli_series(options)$tables
  } else {
    unlist(
      lapply(cli_ids(options$words), function(word) {
        options$words <- word
        cli_series(options)$tables
      }),
      recursive = FALSE
    )
  }
  names(
    parts
  ) <- if (is.null(options$input)) {
    cli_ids(options$words)
  } else {
    strsplit(options$input, ",", fixed = TRUE)[[1]]
  }
  done <- do.call(
    series_join,
    c(
      parts,
      list(
        adjust = options$adjust,
        overlap = options$overlap,
        tolerance = cli_number(options, "tolerance", 0),
        value = options$value %||% "close",
        zone = options$zone
      )
    )
  )
  findings <- attr(done, "findings")
  cli_put(
    if (options$differences) findings else done, options,
    if (options$differences) "finding" else "value"
  )
  cli_join_said(attr(done, "factors"), findings, options)
}

cli_join_said <- function(factors, findings, options) {
  moved <- factors[factors$factor != 1 | factors$offset != 0, ]
  for (i in seq_len(nrow(moved))) {
    cli_say(
      moved$origin[i], ": adjusted to the level of the preceding part ",
      if (moved$offset[i] != 0) {
        paste0("by adding ", format(signif(moved$offset[i], 6)))
      } else {
        paste0("by the factor ", format(signif(moved$factor[i], 6)))
      },
      ", measured on ", thousands(moved$overlap[i]), " common values"
    )
  }
  if (nrow(findings) && !options$differences) {
    cli_say(
      counted(nrow(findings), "time"),
      " at which the sources disagree; --differences shows ", "them"
    )
  }
}
