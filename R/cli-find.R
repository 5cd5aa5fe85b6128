cli_find <- function(arguments) {
  options <- cli_arguments(
    arguments, "find", "[SOURCE] [WORD...]",
    c(
      list(
        cli_option(
          "theme", "only datasets of this theme, as TRANSPORT.WATER",
          metavar = "THEME"
        ),
        cli_option(
          "tree", "show the tree of themes of a statistics office instead",
          flag = TRUE
        ),
        cli_option(
          "free", "leave out datasets that cost money",
          flag = TRUE
        ),
        cli_option("language", "[en]", default = "en")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta find basin lock traffic", "vetusta find level",
      "vetusta find basin --tree", "vetusta find basin --theme PRICES"
    )
  )
  archive <- cli_query_archive(options, create = TRUE)
  named <- cli_find_sources(options)
  if (options$tree) {
    return(cli_find_tree(named$sources, options, archive))
  }
  datasets <- cli_datasets(named$sources, named$words, options, archive)
  if (options$json || !is.null(options$file)) {
    return(cli_put(datasets, options, "dataset"))
  }
  shown <- datasets[
    c(
      if (length(named$sources) > 1) "source", "dataset", "title", "shape",
      "theme", "cost", "plan"
    )
  ]
  for (name in c("cost", "plan")) {
    if (all(is.na(shown[[name]]))) shown[[name]] <- NULL
  }
  if (all(is.na(shown$theme) | !nzchar(shown$theme))) shown$theme <- NULL
  cli_print_table(shown, "no dataset found; try fewer words, or --tree")
  if (nrow(datasets)) {
    cli_say(
      "\nnext: vetusta describe ", datasets$source[1], " ", datasets$dataset[1]
    )
  }
}

# The datasets of all sources. With several sources, one that does not answer is
# reported and the others are shown.
cli_datasets <- function(sources, words, options, archive) {
  ask <- function(source) {
    datasets_find(
      source,
      words = words, theme = options$theme,
      language = options$language, archive = archive,
      free = isTRUE(options$free)
    )
  }
  away <- list()
  tables <- if (length(sources) == 1) {
    list(ask(sources[[1]]))
  } else {
    lapply(sources, function(source) {
      tryCatch(ask(source), vetusta_error = function(e) {
        away[[length(away) + 1]] <<- e
        cli_say(
          source$source, ": ", sub("[.]$", "", e$what),
          ", so its datasets are not shown"
        )
        NULL
      })
    })
  }
  if (length(away) && length(away) == length(sources)) stop(away[[1]])
  tables <- as_rows(do.call(rbind, lapply(tables, as.data.frame)))
  tables[order(-tables$score), ]
}

# list(sources, words): the named source, else all sources of the desk.
cli_find_sources <- function(options) {
  words <- options$words
  desk <- cli_desk(options, needed = FALSE)
  known <- if (!is.null(desk)) desk_cards(desk)
  first <- if (length(words)) words[1]
  card <- !is.null(first) &&
    (first %in% known || file.exists(first) || is.null(desk))
  if (card) {
    return(
      list(
        sources = list(cli_source(options)),
        words = if (length(words) > 1) words[-1]
      )
    )
  }
  if (is.null(desk)) {
    cli_usage_error("name a source, or call this in a desk's folder")
  }
  list(
    sources = lapply(known, function(name) desk_source(desk, name)),
    words = if (length(words)) words
  )
}

cli_find_tree <- function(sources, options, archive) {
  if (length(sources) > 1) sources <- Filter(speaks_sdmx, sources)
  if (length(sources) != 1) cli_usage_error("--tree needs the name of a source")
  themes <- datasets_themes(sources[[1]], options$language, archive)
  if (options$json || !is.null(options$file)) {
    return(cli_put(themes, options, "theme"))
  }
  cat(
    paste0(
      strrep("  ", themes$level - 1), themes$theme, "  ", themes$title, "  (",
      themes$datasets, ")"
    ),
    sep = "\n"
  )
}

cli_describe <- function(arguments) {
  options <- cli_arguments(
    arguments, "describe", "SOURCE [DATASET]",
    c(
      list(
        cli_option("language", "[en]", default = "en"),
        cli_option(
          "codes", "show all codes, not the first of each",
          flag = TRUE
        ),
        cli_option(
          "choose",
          "ask for the codes of each dimension and show the command",
          flag = TRUE
        )
      ),
      cli_place_options(), cli_json_option()
    ),
    c(
      "vetusta describe quay", "vetusta describe basin LOCK_TRAFFIC",
      "vetusta describe river levels",
      "vetusta describe basin LOCK_TRAFFIC --choose"
    ),
    least = 1, most = 2
  )
  if (options$choose && length(options$words) != 2) {
    cli_usage_error("--choose needs a source and a dataset")
  }
  if (length(options$words) == 1) {
    return(cli_describe_source(options))
  }
  about <- datasets_describe(
    cli_source(options),
    options$words[2],
    language = options$language,
    archive = cli_query_archive(options, create = TRUE)
  )
  if (options$choose) {
    return(cli_choose(about, options))
  }
  if (options$json) {
    cli_print_json(cli_plain_dataset(unclass(about)))
  } else {
    cat(format(about, most = if (options$codes) Inf else 12), sep = "\n")
  }
}

# A source with the datasets that can be described.
cli_describe_source <- function(options) {
  source <- cli_source(options)
  archive <- cli_query_archive(options, create = TRUE)
  datasets <- cli_datasets(list(source), NULL, options, archive)
  if (options$json) {
    return(cli_print_json(datasets))
  }
  lines <- utils::capture.output(print(source))
  cat(lines[!startsWith(lines, "  datasets ")], "", sep = "\n")
  shown <- datasets[c("dataset", "shape", "title")]
  if (!any(nzchar(shown$title) & !is.na(shown$title))) shown$title <- NULL
  cli_print_table(shown, "it has no dataset")
  if (nrow(datasets)) {
    cli_say(
      "\nnext: vetusta describe ", source$source, " ", datasets$dataset[1]
    )
  }
}

# A dataset as JSON: lists stay arrays whatever their length.
cli_plain_dataset <- function(about) {
  if (!is.null(about$codes)) {
    about$codes <- lapply(about$codes, function(list) {
      list(
        id = cli_array(list$id),
        parent = cli_array(list$parent),
        labels = lapply(list$labels, cli_array)
      )
    })
    about$available <- lapply(about$available, cli_array)
    about$dimensions$concept_of <- about$dimensions$codelist <- NULL
  }
  about
}

cli_revisions <- function(arguments) {
  options <- cli_arguments(
    arguments, "revisions", "ID...",
    c(
      list(
        cli_option(
          "all", "a row a release, instead of first and latest",
          flag = TRUE
        ),
        cli_option("value", "[close]")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta revisions \"basin/LOCK_TRAFFIC/M.ORV.*\"",
      "vetusta revisions \"KELD@1 day\" --all"
    ),
    least = 1
  )
  rows <- archive_revisions(
    cli_archive(options), cli_ids(options$words),
    all = options$all,
    value = options$value
  )
  summary <- attr(rows, "summary")
  cli_put(rows, options)
  if (!is.null(summary)) {
    mean <- if (any(rows$releases > 1)) {
      paste0(
        "; mean revision ",
        format(signif(mean(rows$revision[rows$releases > 1]), 4))
      )
    }
    cli_say(
      "revised: ", sum(summary$revised), " of ", sum(summary$periods),
      " periods", mean
    )
  }
}

# STATE=ORV,TSK -> list(STATE = c("ORV", "TSK")); values of a repeated key are
# joined. Without `split` a value is kept whole, because a label may contain a
# comma.
cli_pairs <- function(words, split = TRUE) {
  pairs <- regmatches(words, regexec("^([^=]+)=(.+)$", words))
  if (any(lengths(pairs) == 0)) {
    cli_usage_error(
      "\"", words[lengths(pairs) == 0][1],
      "\" must be a dimension and its codes, as STATE=ORV,TSK"
    )
  }
  names <- vapply(pairs, `[`, "", 2)
  values <- lapply(pairs, function(pair) {
    if (split) strsplit(pair[3], ",", fixed = TRUE)[[1]] else pair[3]
  })
  lapply(
    base::split(values, factor(names, unique(names))), unlist,
    use.names = FALSE
  )
}
