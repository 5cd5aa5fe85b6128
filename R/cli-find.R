cli_find <- function(arguments) {
  options <- cli_arguments(arguments, "find", "SOURCE [WORD...]",
    c(list(
      cli_option("theme", "only datasets of this theme, as TRANSPORT.WATER", metavar = "THEME"),
      cli_option("tree", "show the tree of themes instead", flag = TRUE),
      cli_option("language", "the language of titles [en]", default = "en", metavar = "TAG")
    ), cli_place_options(), cli_result_options()),
    c("vetusta find basin lock traffic", "vetusta find basin --tree", "vetusta find basin --theme PRICES"), least = 1)
  source <- cli_source(options)
  archive <- cli_want_archive(options, create = TRUE)
  if (options$tree) {
    themes <- datasets_themes(source, options$language, archive)
    if (options$json || !is.null(options$file)) {
      return(cli_put(themes, options, "theme"))
    }
    return(cat(paste0(strrep("  ", themes$level - 1), themes$theme, "  ", themes$title, "  (", themes$datasets, ")"), sep = "\n"))
  }
  found <- datasets_find(source, if (length(options$words) > 1) options$words[-1], theme = options$theme, language = options$language, archive = archive)
  if (options$json || !is.null(options$file)) {
    return(cli_put(found, options, "dataset"))
  }
  cli_print_table(found[c("dataset", "title", "theme")], "nothing is found; try fewer words, or --tree")
  if (nrow(found)) cli_say("\nnext: vetusta describe ", options$words[1], " ", found$dataset[1])
}

cli_describe <- function(arguments) {
  options <- cli_arguments(arguments, "describe", "SOURCE DATASET",
    c(list(cli_option("language", "the language of labels [en]", default = "en", metavar = "TAG"), cli_option("codes", "show all codes, not the first of each",
      flag = TRUE)), cli_place_options(), cli_json_option()),
    "vetusta describe basin LOCK_TRAFFIC", least = 2, most = 2)
  about <- datasets_describe(cli_source(options), options$words[2], language = options$language, archive = cli_want_archive(options, create = TRUE))
  if (options$json) {
    about <- unclass(about)
    about$codes <- lapply(about$codes, function(list) list(id = cli_array(list$id), parent = cli_array(list$parent), labels = lapply(list$labels, cli_array)))
    about$available <- lapply(about$available, cli_array)
    about$dimensions$concept_of <- about$dimensions$codelist <- NULL
    cli_print_json(about)
  } else cat(format_dataset(about, if (options$codes) Inf else 12), sep = "\n")
}

cli_revisions <- function(arguments) {
  options <- cli_arguments(arguments, "revisions", "SOURCE DATASET [DIMENSION=CODE...]",
    c(list(cli_option("all", "a row a release, instead of first and latest", flag = TRUE)), cli_place_options(), cli_result_options()),
    "vetusta revisions basin LOCK_TRAFFIC STATE=ORV CARGO=GRAIN", least = 2)
  rows <- archive_revisions(cli_archive(options), options$words[1], options$words[2], all = options$all, keys = cli_pairs(options$words[-(1:2)], split = FALSE))
  summary <- attr(rows, "summary")
  cli_put(rows, options)
  if (!is.null(summary)) cli_say("revised: ", sum(summary$revised), " of ", sum(summary$periods), " periods; mean revision ", format(signif(mean(rows$revision[rows$releases > 1]), 4)))
}

# STATE=ORV,TSK -> list(STATE = c("ORV", "TSK")); a key that is named twice has the values of both. Without `split` what is asked for stays as it was written, since a
# label may have a comma in it.
cli_pairs <- function(words, split = TRUE) {
  pairs <- regmatches(words, regexec("^([^=]+)=(.+)$", words))
  if (any(lengths(pairs) == 0)) cli_usage_error("\"", words[lengths(pairs) == 0][1], "\" must be a dimension and its codes, as STATE=ORV,TSK")
  names <- vapply(pairs, `[`, "", 2)
  values <- lapply(pairs, function(pair) if (split) strsplit(pair[3], ",", fixed = TRUE)[[1]] else pair[3])
  lapply(base::split(values, factor(names, unique(names))), unlist, use.names = FALSE)
}
