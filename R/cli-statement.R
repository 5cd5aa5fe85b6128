cli_statement <- function(arguments) {
  options <- cli_arguments(
    arguments, "statement", "COMPANY...",
    c(
      list(
        cli_option(
          "annual", "years [the default]",
          flag = TRUE
        ),
        cli_option(
          "quarterly",
          "quarters, also those filed only as sums of the year to date",
          flag = TRUE
        ),
        cli_option(
          "trailing", "the sum of four quarters at each quarter's end",
          flag = TRUE
        ),
        cli_option(
          "items",
          paste0(
            "items, with commas between; or @FILE, an item or a formula ",
            "NAME = A + B - C a line"
          ),
          metavar = "ITEMS"
        ),
        cli_option(
          "filed", "of what was filed several times: first or last [last]",
          default = "last", metavar = "WORD"
        ),
        cli_option("unit", "; facts in other units are left out"),
        cli_option("limit", "periods, the newest [5]", default = "5"),
        cli_option("complete"), cli_form_option("wide"),
        cli_option(
          "facts", "dataset of the facts, where there are several",
          metavar = "SOURCE/DATASET"
        ),
        cli_option("as-of"),
        cli_option(
          "append",
          "; its rows name items, its heads periods; new periods become columns"
        ),
        cli_option("table")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta statement KELD", "vetusta statement KELD --quarterly --limit 8",
      "vetusta statement KELD BROM TAMX --items revenue",
      "vetusta statement KELD --as-of 2025-03-01",
      "vetusta statement KELD --append model.xlsx --table Figures"
    )
  )
  if (!length(options$words) && is.null(options$append)) {
    cli_usage_error("it needs COMPANY...")
  }
  kinds <- c("annual", "quarterly", "trailing")
  asked <- kinds[unlist(options[kinds])]
  if (length(asked) > 1) {
    cli_usage_error("--", asked[1], " and --", asked[2], " are two statements")
  }
  archive <- cli_archive(options)
  id <- cli_dataset_of_shape(archive, "facts", options$facts)
  facts <- cli_facts(archive, id, options)
  if (!is.null(options$unit)) {
    facts <- rows_filter(facts, paste0("unit=", options$unit))
  }
  if (!is.null(options$append)) {
    return(cli_statement_fill(facts, options, asked))
  }
  items <- if (startsWith(options$items %||% "", "@")) {
    cli_item_file(substring(options$items, 2))
  } else {
    cli_list_of(options$items)
  }
  done <- facts_statement(
    facts, options$words, if (length(asked)) asked else "annual", items,
    options$filed, options$as_of, options$form,
    cli_number(options, "limit", 1), options$complete
  )
  cli_put(cli_marked(done, options), options, "row")
  findings <- attr(done, "findings")
  if (nrow(findings)) {
    cli_say(
      counted(nrow(findings), "year"),
      " whose quarters, as filed, do not add up: ",
      paste(
        utils::head(
          paste(findings$symbol, findings$item, findings$period_end), 3
        ),
        collapse = "; "
      )
    )
  }
  if (any(attr(done, "computed")) && cli_reads(options)) {
    cli_say("* computed from what was filed")
  }
}

# A table that is not ours: filled, and wider by new periods.
cli_statement_fill <- function(facts, options, asked) {
  for (name in c("items", "file")) {
    if (!is.null(options[[name]])) {
      cli_usage_error("--", name, " and --append: the table has its own items")
    }
  }
  if (identical(asked, "trailing")) {
    cli_usage_error("--append fills years or quarters")
  }
  done <- export_fill(
    facts, options$append, options$table,
    symbol = if (length(options$words) == 1) options$words,
    period = if (length(asked)) asked, add = TRUE, filed = options$filed
  )
  if (options$json) {
    cli_print_json(unclass(done))
  } else {
    cli_say(format_fill(done))
  }
}

# All filed figures, including restated ones.
cli_facts <- function(archive, id, options) {
  parts <- strsplit(id, "/", fixed = TRUE)[[1]]
  series <- store_series(archive, parts[1], parts[length(parts)])
  series <- datasets_of_shape(series, "facts")
  if (!nrow(series)) {
    vetusta_stop(
      "argument", paste0("The archive has no facts at \"", id, "\"."),
      todo = "`vetusta list datasets` shows the stored datasets"
    )
  }
  if (!length(options$words)) {
    options$words <- unique(series_dimensions(series)[["symbol"]])
  }
  # a key begins with the company, so most series need not be parsed
  near <- Reduce(
    `|`, lapply(options$words, function(name) startsWith(series$key, name))
  )
  if (all(
    vapply(
      options$words, function(name) any(startsWith(series$key, name)), TRUE
    )
  )) {
    series <- series[near, ]
  }
  symbol <- series_dimensions(series)[["symbol"]]
  for (name in options$words) {
    if (!name %in% symbol) {
      vetusta_stop(
        "argument",
        paste0("There are no facts of \"", name, "\"."),
        todo = suggest_word(name, unique(symbol))
      )
    }
  }
  series <- series[symbol %in% options$words, ]
  facts <- table_of_facts(
    archive, series, NULL, NULL, known_at(options$as_of),
    newest = FALSE
  )
  # items in order of first appearance
  came <- unique(series_dimensions(series[order(series$id), ])[["item"]])
  facts[
    order(
      match(facts$symbol, options$words), match(facts$item, came),
      method = "radix"
    ),
  ]
}

cli_item_file <- function(file) {
  if (!file.exists(file) || dir.exists(file)) {
    vetusta_stop(
      "argument", "The file of items does not exist.",
      where = file,
      todo = "give a text file with an item a line"
    )
  }
  list_lines(file)
}

# Whether a person reads the output on a terminal.
cli_reads <- function(options) {
  is.null(options$file) && !options$json && isatty(stdout())
}

# Marks computed values with a star for people.
cli_marked <- function(done, options) {
  computed <- attr(done, "computed")
  if (is.null(computed) || !any(computed) || !cli_reads(options)) {
    return(done)
  }
  for (name in colnames(computed)) {
    text <- ifelse(is.na(done[[name]]), "", vapply(done[[name]], thousands, ""))
    text <- paste0(trimws(text), ifelse(computed[, name], "*", " "))
    done[[name]] <- formatC(text, width = max(nchar(text)))
  }
  done
}
