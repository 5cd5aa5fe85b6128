# The command line: a small dispatcher. Each command is a function
# cli_<name>(arguments) in its own file. Data goes to standard output,
# everything else to standard error. Exit status: 0 done, 1 failed, 2 wrong
# usage.

cli_commands <- c(
  demo = "make a desk, serve invented services, collect from them and draw",
  new = "make a desk of your own: a commented desk.yml that runs as it stands",
  services = "serve the invented services of the demo",
  sources = "list, check, draft or test source cards; a cookbook of cards",
  secrets = "set, list or check the secrets of a desk; log in to a source",
  find = "find datasets by words or theme",
  describe = "show a dataset's keys, columns and coverage",
  try = paste0(
    "make a request or two and show the answer and its rows; nothing ",
    "is stored"
  ),
  plan = "show requests, time and quota of a collection before it runs",
  collect = "collect into the archive, within the source's limits",
  track = "add a query to the desk, for refresh to keep current",
  refresh = "bring the tracked queries up to date, with the fewest requests",
  schedule = "show when tracked queries are due, and set timers for them",
  status = "show how complete and how fresh the tracked queries are",
  reparse = paste0(
    "decode kept raw pages again with a corrected card, making ", "no request"
  ),
  list = paste0(
    "show what the archive holds: datasets, series, journal, ", "rejected rows"
  ),
  rows = paste0(
    "rows of a dataset: chosen, joined, sorted, counted, or as a ",
    "desk's list"
  ),
  fetch = "download the documents behind links, each with its hash",
  rank = "rank the largest moves of a market, above a least volume",
  near = "find places near a point, with their stored series",
  statement = "show a company's facts as a table of items and periods",
  revisions = "show how figures were revised, release by release",
  trace = "trace a value to the request, file and row that it came from",
  calendar = "show a calendar, its closed days, or the times it expects",
  resample = "make longer bars, or change the frequency of values",
  align = "put series onto one grid, without look-ahead",
  check = "watch the data by rules; what is new, and what is still there",
  gaps = "find gaps with their reasons, or wrong values",
  fill = "fill gaps by a named rule, and mark the filled values",
  change = "compute changes, indices, windows, conversions, correlations",
  adjust = "adjust prices for splits and dividends; find unreported jumps",
  continuous = "make one continuous series of expiring contracts",
  join = "join series of several sources into one history",
  model = "fit trend, season and noise; simulate paths, an index, a payoff",
  figure = "draw candles or lines of archived series",
  report = "write a report: figures, coverage, gaps, failures in one file",
  browse = "look through the archive on a local page; read only",
  export = paste0(
    "write series or rows as CSV, Parquet, XLSX and more, or into ",
    "a database"
  ),
  archive = paste0(
    "check an archive, repair it, compact it, back it up, restore it, rescue ",
    "what can be read, copy it"
  ),
  import = "import a file into the archive",
  pack = "pack series, cards and outputs into one file, to take along",
  unpack = "make a desk of a pack, and say whether its numbers are the same",
  completion = paste0(
    "completion of commands, options and series IDs for ", "bash and zsh"
  ),
  help = "show how a command is used",
  version = "print the version"
)

#' Run a command of the command line
#'
#' @param arguments The words after `vetusta`; by default those of this process.
#' @return The exit status, invisibly; a process that is not interactive ends
#'   with it.
#' @export
#' @keywords internal
#' @examples
#' cli_main("version")
cli_main <- function(arguments = commandArgs(TRUE)) {
  status <- cli_run(arguments)
  if (!interactive() && missing(arguments)) quit(save = "no", status = status)
  invisible(status)
}

cli_run <- function(arguments) {
  if (!length(arguments) || arguments[1] %in% c("--help", "-h")) {
    status <- cli_run("help")
    return(if (length(arguments)) status else 2L)
  }
  if (arguments[1] == "--version") arguments[1] <- "version"
  arguments <- options_behind(arguments)
  command <- arguments[1]
  if (!command %in% names(cli_commands)) {
    cli_say(
      "vetusta: there is no command \"", command, "\"; ", command_hint(command)
    )
    return(2L)
  }
  # commands that run long write their output at once
  at_once <- command %in% c("demo", "services", "browse") ||
    isatty(stdout()) ||
    sink.number() > 0
  if (at_once) {
    cli_work(command, arguments[-1])
  } else {
    cli_put_out(command, function() cli_work(command, arguments[-1]))
  }
}

cli_work <- function(command, arguments) {
  work <- cli_command(command)
  if (command %in% c("collect", "refresh")) end_as_interrupt_cpp()
  if (!command %in% cli_lasting) {
    readings_begin(cli_written(command, arguments))
    on.exit(readings_end())
  }
  withCallingHandlers(
    tryCatch(
      {
        status <- work(arguments)
        if (is.numeric(status)) as.integer(status) else 0L
      },
      vetusta_usage = function(e) {
        cli_say(
          "vetusta ", command, ": ", conditionMessage(e),
          "\n  to do: see `vetusta ", command, " --help`"
        )
        2L
      },
      vetusta_help = function(e) 0L,
      vetusta_error_argument = function(e) cli_failed(e, 2L, command),
      vetusta_error = function(e) {
        cli_failed(e, if (isTRUE(e$usage)) 2L else 1L, command)
      },
      interrupt = function(e) {
        cli_say(
          "stopped; the pages received so far are stored, and the same ",
          "command continues"
        )
        1L
      },
      error = function(e) {
        # the reader of the output has ended, as head does
        if (grepl("SIGPIPE", conditionMessage(e))) {
          return(0L)
        }
        cli_say(
          "vetusta ", command, ": an internal error: ", conditionMessage(e),
          "\n  to do: report it with the command that you gave; no ",
          "stored row is lost"
        )
        1L
      }
    ),
    warning = function(w) {
      cli_say("note: ", conditionMessage(w))
      invokeRestart("muffleWarning")
    },
    vetusta_note = function(m) {
      cli_say(sub("\n$", "", conditionMessage(m)))
      invokeRestart("muffleMessage")
    }
  )
}

# Commands that last, or make several things, have no lineage of their own.
cli_lasting <- c("demo", "services", "browse")

# A command as it would be written in a shell, without the password of a
# database.
cli_written <- function(command, arguments) {
  words <- sub(
    "^(--archive=)?(postgres(ql)?://[^:@/]*):[^@/]*@", "\\1\\2@", arguments
  )
  plain <- grepl("^[A-Za-z0-9_.,:/@%+=-]+$", words)
  words[!plain] <- shQuote(words[!plain])
  paste(c("vetusta", command, words), collapse = " ")
}

# R does not report a failed write to standard output, so output is collected
# and written here. A reader that has ended, such as head, is no failure.
cli_put_out <- function(command, work) {
  path <- tempfile("out")
  gathered <- file(path, "w+b")
  closed <- .Call(descriptor_is, 1L, path)
  sink(gathered)
  status <- tryCatch(work(), finally = {
    sink()
    close(gathered)
  })
  on.exit(unlink(path))
  input <- file(path, "rb")
  on.exit(close(input), add = TRUE)
  while (length(bytes <- readBin(input, "raw", 1e6))) {
    error <- if (closed) 9L else .Call(descriptor_write, 1L, bytes)
    # 32 is EPIPE
    if (error == 32L) break
    if (error != 0L) {
      cli_say(
        "vetusta ", command, ": standard output cannot be written",
        if (error == 28L) ": no space is left on the device",
        "\n  to do: look where the output goes to"
      )
      return(1L)
    }
  }
  status
}

cli_failed <- function(error, status, command) {
  cli_say("vetusta: ", cli_words(conditionMessage(error), command))
  status
}

cli_say <- function(...) cat(..., "\n", file = stderr(), sep = "")

cli_usage_error <- function(...) {
  stop(
    structure(
      class = c("vetusta_usage", "error", "condition"),
      list(message = paste0(...), call = NULL)
    )
  )
}

# Parses a command's arguments with optparse. `options` come from cli_option();
# at least `least` positional `words` are required.
cli_arguments <- function(arguments, command, words, options, example,
                          least = 0, most = Inf) {
  if (grepl("^(\\[KIND\\] |SOURCE/DATASET\\|)?ID", words)) {
    options <- c(options, list(cli_option("ids")))
  }
  options <- c(
    options,
    list(cli_option("help", "show this and end", flag = TRUE, short = "h"))
  )
  parser <- optparse::OptionParser(
    usage = paste(
      c("vetusta", command, words[nzchar(words)], "[options]"),
      collapse = " "
    ),
    option_list = options,
    add_help_option = FALSE,
    description = paste0(
      "\n", toupper(substr(cli_commands[[command]], 1, 1)),
      substring(cli_commands[[command]], 2), "."
    ),
    epilogue = paste0("example:\n", paste0("  ", example, collapse = "\n")),
    prog = "vetusta"
  )
  read <- tryCatch(
    optparse::parse_args(
      parser,
      args = cli_joined(as.character(arguments), "--sample"),
      print_help_and_exit = FALSE,
      positional_arguments = TRUE,
      convert_hyphens_to_underscores = TRUE
    ),
    error = function(e) {
      cli_usage_error(cli_option_problem(conditionMessage(e), options))
    }
  )
  if (isTRUE(read$options$help)) {
    cat(
      cli_tidy_help(utils::capture.output(optparse::print_help(parser))),
      sep = "\n"
    )
    stop(
      structure(
        class = c("vetusta_help", "error", "condition"),
        list(message = "help", call = NULL)
      )
    )
  }
  read$args <- words_from_files(read$args, read$options$ids)
  if (grepl("^\\[?SOURCE \\[?DATASET", words)) {
    read$args <- split_dataset(read$args)
  }
  if (startsWith(words, "SOURCE/DATASET [")) {
    read$args <- join_dataset(read$args)
  }
  if (length(read$args) < least) cli_usage_error("it needs ", words)
  if (length(read$args) > most) {
    cli_usage_error("\"", read$args[most + 1], "\" is an unexpected word")
  }
  structure(c(list(words = read$args), read$options), class = "vetusta_options")
}

cli_option_problem <- function(text, options) {
  # the parser's message may be on the line after its location
  text <- sub("\n.*", "", trimws(sub("^Error in [^:]*:", "", text)))
  text <- sub(
    "long flag \"([^\"]*)\" is invalid.*", "the option --\\1 is not known", text
  )
  text <- sub(
    "short flag \"([^\"]*)\" is invalid.*", "the option -\\1 is not known", text
  )
  text <- sub(
    "flag \"([^\"]*)\" requires an argument", "the option --\\1 needs a value",
    text
  )
  wrong <- regmatches(
    text, regexec("(?:no such option: |option )--?([a-z][a-z-]*)", text)
  )[[1]][2]
  hint <- if (!is.na(wrong) && !grepl("needs a value", text)) {
    option_hint(wrong, options)
  }
  paste(c(text, hint), collapse = "; ")
}

# Common words for an option, with the options that do it here, the likelier
# first.
option_meanings <- list(
  start = "from",
  begin = "from",
  since = "from",
  after = "from",
  end = "to",
  until = "to",
  before = "to",
  output = "file",
  out = "file",
  o = "file",
  save = c("file", "samples"),
  format = c("form", "file"),
  count = "limit",
  n = "limit",
  head = "limit",
  top = "limit",
  max = "limit",
  rows = "limit",
  size = "limit",
  frequency = c("interval", "into"),
  freq = c("interval", "into"),
  period = c("interval", "span"),
  timeframe = "interval",
  every = c("interval", "into"),
  timezone = "zone",
  tz = "zone",
  ticker = "symbol",
  fields = "columns",
  select = "columns",
  where = NULL,
  order = "sort",
  method = c("rule", "take", "using"),
  db = c("archive", "database"),
  folder = "desk",
  directory = "desk",
  days = "span",
  years = "span",
  lookback = "span",
  dry = "plan",
  force = "again",
  refresh = "again",
  silent = "quiet",
  verbose = NULL
)

# The suggestion for an unknown option: by its meaning or the nearest name.
option_hint <- function(word, options) {
  known <- vapply(
    options, function(option) sub("^--", "", option@long_flag), ""
  )
  meant <- intersect(option_meanings[[word]], known)
  near <- if (length(meant)) meant[1] else nearest_word(word, known)
  if (!is.null(near)) paste0("did you mean --", near, "?")
}

# optparse prints an option and its help on two lines; here they stand side by
# side, wrapped at the width of the terminal, else at 80 columns.
cli_tidy_help <- function(lines) {
  lines <- sub("^Usage:", "usage:", lines)
  lines <- sub("^Options:$", "options:", lines)
  flag <- grep("^\t-", lines)
  names <- trimws(lines[flag])
  width <- max(nchar(names))
  room <- min(if (isatty(stdout())) cli::console_width() else 80, 120)
  indent <- strrep(" ", width + 4)
  lines[flag] <- vapply(
    seq_along(flag),
    function(i) {
      paste(
        strwrap(
          trimws(lines[flag[i] + 1]),
          room,
          initial = sprintf("  %-*s  ", width, names[i]),
          prefix = indent
        ),
        collapse = "\n"
      )
    },
    ""
  )
  lines <- lines[-c(flag + 1, flag + 2)]
  lines[!(lines == "" & c(FALSE, utils::head(lines == "", -1)))]
}

cli_command <- function(name) {
  # these names belong to exported functions
  if (name %in% c("calendar", "archive")) {
    get(paste0("cli_", name, "_command"))
  } else {
    get(paste0("cli_", name), mode = "function")
  }
}

cli_version <- function(arguments) {
  if (length(arguments) && arguments[1] %in% c("--help", "-h")) {
    cat(
      paste0(
        "usage: vetusta version\n\nPrint the version.\n\nexample:\n  ",
        "vetusta version\n"
      )
    )
    return(0L)
  }
  if (length(arguments)) cli_usage_error("it takes no words")
  cat("vetusta ", getNamespaceVersion("vetusta")[[1]], "\n", sep = "")
  0L
}

# A repeatable option: its values are joined with commas, which may also be
# typed.
cli_joined <- function(arguments, flag) {
  at <- which(arguments == flag & seq_along(arguments) < length(arguments))
  if (length(at) < 2) {
    return(arguments)
  }
  arguments[at[1] + 1] <- paste(arguments[at + 1], collapse = ",")
  arguments[-c(at[-1], at[-1] + 1)]
}
