# Completion for bash and zsh: a small script that asks this program for the
# next words.

cli_completion <- function(arguments) {
  # the words of another program's line are not options of this command
  if (length(arguments) && arguments[1] == "words") {
    return(cat(complete_words(sub_first(arguments[-1], "--")), sep = "\n"))
  }
  options <- cli_arguments(
    arguments, "completion", "bash|zsh", list(),
    c(
      "source <(vetusta completion bash)",
      "vetusta completion zsh > ~/.zfunc/_vetusta"
    ),
    least = 1
  )
  shell <- options$words[1]
  if (length(options$words) > 1) {
    cli_usage_error("\"", options$words[2], "\" is an unexpected word")
  }
  script <- completion_scripts[[shell]]
  if (is.null(script)) {
    cli_usage_error(
      "there is no completion for \"", shell, "\"; ",
      suggest_word(shell, names(completion_scripts))
    )
  }
  cat(script, sep = "\n")
}

# The shell passes all words of the line up to the cursor. Series IDs contain
# blanks and are quoted.
completion_scripts <- list(
  bash = c(
    "# completion of vetusta for bash: source <(vetusta completion bash)",
    "_vetusta() {",
    "  local IFS=$'\\n' word=\"${COMP_WORDS[COMP_CWORD]}\" found line",
    "  COMPREPLY=()",
    paste0(
      "  found=$(\"${COMP_WORDS[0]}\" completion words -- ",
      "\"${COMP_WORDS[@]:1:COMP_CWORD}\" ", "2>/dev/null)"
    ),
    "  for line in $found; do",
    paste0(
      "    [[ \"$line\" == \"${word#[\\\"\\']}\"* ]] && ",
      "COMPREPLY+=(\"$(printf '%q' \"$line\")\")"
    ),
    "  done",
    "  [[ \"$word\" == [\\\"\\']* ]] && COMPREPLY=(\"${COMPREPLY[@]//\\\\/}\")",
    "  [[ ${#COMPREPLY[@]} -eq 0 ]] && compopt -o default 2>/dev/null",
    "  return 0", "}", "complete -F _vetusta vetusta"
  ),
  zsh = c(
    "#compdef vetusta",
    paste0(
      "# completion of vetusta for zsh: put it into a folder of $fpath ",
      "as _vetusta"
    ),
    "_vetusta() {", "  local -a found",
    paste0(
      "  found=(\"${(@f)$(\"${words[1]}\" completion words -- ",
      "\"${(@Q)words[2,CURRENT]}\" 2>", "/dev/null)}\")"
    ),
    paste0(
      "  if [[ -n \"${found[1]}\" ]]; then compadd -- \"${found[@]}\"; ",
      "else _files; fi"
    ),
    "}",
    paste0(
      "if [ \"$funcstack[1]\" = \"_vetusta\" ]; then _vetusta \"$@\"; ",
      "else compdef _vetusta ", "vetusta; fi"
    )
  )
)

sub_first <- function(words, mark) {
  if (identical(words[1], mark)) words[-1] else words
}

# The possible values of the last word. Nothing is offered where they cannot be
# determined.
complete_words <- function(words) {
  words <- sub("^[\"']", "", words)
  if (length(words) <= 1) {
    return(names(cli_commands))
  }
  command <- words[1]
  last <- words[length(words)]
  before <- words[length(words) - 1]
  if (!command %in% names(cli_commands)) {
    return(character())
  }
  if (startsWith(last, "-")) {
    return(command_options(command))
  }
  candidates <- tryCatch(
    complete_value(command, words, before),
    error = function(e) character()
  )
  unique(candidates[startsWith(tolower(candidates), tolower(last))])
}

# The options of a command, from its help.
command_options <- function(command) {
  help <- utils::capture.output(
    tryCatch(cli_command(command)("--help"), vetusta_help = function(e) NULL)
  )
  lines <- grep("^  -", help, value = TRUE)
  unique(unlist(regmatches(lines, regexpr("--[a-z][a-z-]*", lines))))
}

complete_value <- function(command, words, before) {
  option <- sub("^--", "", before)
  if (startsWith(before, "--") && option %in% names(complete_options)) {
    return(complete_options[[option]]())
  }
  plain <- words[-c(1, length(words))]
  plain <- plain[!startsWith(plain, "-")]
  desk <- tryCatch(desk_open("."), vetusta_error = function(e) NULL)
  kind <- complete_kinds[[command]]
  if (is.null(kind)) character() else kind(desk, plain)
}

complete_options <- list(
  desk = function() list.dirs(".", full.names = FALSE, recursive = FALSE),
  session = function() c("regular", "early", "late", "all"),
  form = function() c("long", "wide", "sides", "sdmx"),
  interval = function() {
    c("1 minute", "5 minutes", "15 minutes", "30 minutes", "1 hour", "1 day")
  },
  shape = function() setdiff(names(shape_columns), "datasets"),
  zone = function() OlsonNames(),
  drop = function() names(desk_open(".")$track)
)

complete_sources <- function(desk, plain) {
  if (is.null(desk)) {
    return(character())
  }
  if (!length(plain)) {
    return(desk_cards(desk))
  }
  source <- desk_source(desk, plain[1])
  if (length(plain) == 1) {
    return(c(names(source$datasets), complete_flows(desk, source)))
  }
  dataset <- source$datasets[[plain[2]]]
  if (is.null(dataset)) {
    return(character())
  }
  if (gives_bars(dataset)) {
    return(complete_symbols(desk, source))
  }
  fixed <- Filter(
    function(name) !is.null(dataset$parameters[[name]]$value),
    names(dataset$parameters)
  )
  paste0(
    setdiff(
      dataset_gives(dataset),
      c("from", "to", "largest_page", fixed, page_parameter(dataset))
    ),
    "="
  )
}

# Datasets of a statistics office of which the archive has series.
complete_flows <- function(desk, source) {
  archive <- desk_archive(desk)
  on.exit(if (!is.null(archive)) archive_close(archive))
  if (is.null(archive)) {
    character()
  } else {
    unique(store_series(archive, source = source$source)$dataset)
  }
}

complete_symbols <- function(desk, source) {
  series <- complete_series(desk)
  series$key[series$source == source$source]
}

complete_ids <- function(desk, plain) {
  series <- complete_series(desk)
  full <- series_id(series)
  # the short form too, where it is unambiguous
  short <- sub("^[^/]*/[^/]*/", "", full)
  c(
    short[!short %in% short[duplicated(short)]], full,
    unique(paste0(series$source, "/", series$dataset, recycle0 = TRUE))
  )
}

# The series of the desk's archive, if there is one.
complete_series <- function(desk) {
  if (is.null(desk) || !archive_there(desk$archive)) {
    return(list(source = character(), dataset = character(), key = character()))
  }
  archive_listed(
    desk$archive, "ids", function() desk_reach(desk, create = FALSE),
    store_series
  )
}

complete_queries <- function(desk, plain) setdiff(names(desk$track), plain)

complete_kinds <- c(
  lapply(
    stats::setNames(
      nm = c("plan", "collect", "track", "describe", "find", "reparse")
    ),
    function(name) complete_sources
  ),
  lapply(
    stats::setNames(
      nm = c(
        "gaps", "fill", "align", "resample", "change", "export", "revisions",
        "trace", "pack"
      )
    ),
    function(name) complete_ids
  ),
  lapply(
    stats::setNames(nm = c("refresh", "status")),
    function(name) complete_queries
  ),
  list(
    figure = function(desk, plain) {
      if (!length(plain)) names(cli_figures) else complete_ids(desk, plain)
    },
    list = function(desk, plain) names(cli_lists),
    archive = function(desk, plain) names(cli_archive_tasks),
    secrets = function(desk, plain) c("list", "check", "set"),
    sources = function(desk, plain) c("list", "check", "draft"),
    calendar = function(desk, plain) c("show", "times"),
    help = function(desk, plain) names(cli_commands),
    completion = function(desk, plain) names(completion_scripts)
  )
)
