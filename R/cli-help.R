# General help: the first screen, the groups of commands, and hints for unknown
# commands.

cli_first <- c("demo", "new", "collect", "list", "figure")

cli_groups <- list(
  connect = c(
    "new", "services", "sources", "secrets", "find", "describe", "try"
  ),
  collect = c(
    "plan", "collect", "track", "refresh", "schedule", "status", "fetch",
    "import", "reparse"
  ),
  look = c(
    "list", "rows", "figure", "statement", "revisions", "near", "calendar",
    "browse"
  ),
  clean = c(
    "check", "gaps", "fill", "resample", "align", "adjust", "continuous", "join"
  ),
  analyse = c("change", "rank", "model"),
  share = c("export", "report", "trace", "pack", "unpack"),
  care = c("archive", "demo", "completion", "help", "version")
)

# Common words for a command, with the command that does it here.
cli_meanings <- c(
  plot = "figure", chart = "figure", draw = "figure", graph = "figure",
  download = "collect", get = "collect", pull = "collect", update = "refresh",
  sync = "refresh", upgrade = "refresh", search = "find", init = "new",
  create = "new", start = "demo", example = "demo", show = "rows",
  query = "rows", print = "rows", ls = "list", dir = "list", save = "export",
  convert = "export", load = "import", read = "import", ingest = "import",
  delete = "archive", drop = "archive", backup = "archive",
  aggregate = "resample", interpolate = "fill", split = "adjust",
  roll = "continuous", merge = "join", forecast = "model", simulate = "model",
  serve = "services", login = "secrets", cron = "schedule", watch = "schedule",
  cards = "sources", source = "trace", origin = "trace", audit = "trace",
  provenance = "trace"
)

cli_overview <- function() {
  cat(
    paste0(
      "vetusta collects market prices and statistics from data APIs, ",
      "keeps, aligns and\n"
    ),
    "cleans them, and draws them.\n\nusage: vetusta COMMAND [...]\n\nfirst:\n",
    sep = ""
  )
  cat(sprintf("  %-8s %s\n", cli_first, cli_commands[cli_first]), sep = "")
  cat("\ngroups of commands:\n")
  for (name in names(cli_groups)) {
    cat(
      strwrap(
        paste(cli_groups[[name]], collapse = ", "),
        78,
        initial = sprintf("  %-8s ", name),
        prefix = strrep(" ", 11)
      ),
      sep = "\n"
    )
  }
  cat(
    paste0(
      "\n`vetusta help GROUP` describes the commands of a group, ",
      "`vetusta help COMMAND` a\n"
    ),
    "command, with its options and an example.\n",
    sep = ""
  )
}

cli_help <- function(arguments) {
  if (!length(arguments)) {
    cli_overview()
    return(0L)
  }
  word <- arguments[1]
  if (word %in% c("--help", "-h", "help")) {
    cat(
      paste0(
        "usage: vetusta help [GROUP|COMMAND]\n\nShow the groups of ",
        "commands, the commands of a "
      ),
      "group, or how a command is used.\n\nexamples:\n",
      "  vetusta help look\n", "  vetusta help collect\n",
      sep = ""
    )
    return(0L)
  }
  if (word %in% names(cli_commands)) {
    # a command ends with this condition after it has shown its help
    status <- tryCatch(
      cli_command(word)("--help"),
      vetusta_help = function(e) 0L
    )
    if (word %in% names(cli_groups)) {
      cat(
        "\nothers of its group: ",
        paste(setdiff(cli_groups[[word]], word), collapse = ", "), "\n",
        sep = ""
      )
    }
    return(status)
  }
  if (!word %in% names(cli_groups)) {
    cli_usage_error(
      "there is no command or group \"", word, "\"; ", command_hint(word)
    )
  }
  commands <- cli_groups[[word]]
  cat(sprintf("  %-10s %s\n", commands, cli_commands[commands]), sep = "")
  cat("\n`vetusta help COMMAND` shows a command's options and an example.\n")
  0L
}

# The suggestion for an unknown command: by its meaning, or the nearest name.
command_hint <- function(word) {
  meant <- cli_meanings[tolower(word)]
  if (!is.na(meant)) {
    return(paste0("`vetusta ", meant, "` does that"))
  }
  if (startsWith(word, "-")) {
    return("name a command, as in `vetusta list --desk FOLDER`")
  }
  near <- nearest_word(word, c(names(cli_commands), names(cli_groups)))
  if (is.null(near)) {
    "`vetusta help` shows them"
  } else {
    paste0("did you mean \"", near, "\"?")
  }
}

# Global options may stand before the command.
options_behind <- function(arguments) {
  ahead <- 0
  while (ahead < length(arguments) &&
    grepl("^--(desk|archive)(=|$)", arguments[ahead + 1])) {
    ahead <- ahead +
      if (grepl("=", arguments[ahead + 1], fixed = TRUE)) 1 else 2
  }
  if (ahead == 0 || ahead >= length(arguments)) {
    return(arguments)
  }
  c(arguments[-seq_len(ahead)], arguments[seq_len(ahead)])
}
