# Shared options. An option that several commands have means the same in all of
# them and is defined here; a command adds only its default or a special case.

cli_shared <- list(
  account = c("NAME", "one of the card's accounts, where it has several keys"),
  adjust = c(
    "WORD",
    "how a step between two parts is taken out: none, difference or ratio"
  ),
  archive = c(
    "FILE", "an archive file, or postgresql://..., in place of the desk's"
  ),
  "as-of" = c("DAY", "what was known on this day or at this instant"),
  base = c("DAY", "the day whose value is 100"),
  by = c("WORD", "the order: up, down, traded, range, high or low"),
  calendar = c("NAME", "name or file of a calendar"),
  change = c("WORD", "kind of change"),
  columns = c(
    "COLUMNS",
    "only these columns, with commas; NEW=OLD gives a column another name"
  ),
  complete = c("", "only rows or periods without a missing value"),
  dark = c("", "dark background"),
  desk = c(
    "FOLDER", "the desk's folder; by default the current folder or one above it"
  ),
  file = c("FILE", "the file to write"),
  fill = c(
    "RULES", "rules by which gaps are filled first, see `vetusta fill`"
  ),
  form = c(
    "WORD", "long (a row a value) or wide (a column a series or period)"
  ),
  from = c("DAY", "first day or instant, as 2026-03-12"),
  gather = c(
    "N",
    paste(
      "small pages written in one transaction; a killed run requests",
      "them again;", "1 writes each at once"
    )
  ),
  grid = c(
    "GRID",
    paste(
      "the times: union, intersection, a series' name, or a length such as",
      "\"1 day\" by the calendar"
    )
  ),
  history = c("", "statistics: all releases, where the service has them"),
  ids = c(
    "FILE", "more series IDs, a line each, from a file; - is standard input"
  ),
  input = c(
    "FILES",
    paste(
      "files (CSV, Parquet, .xlsx, .jsonl) in place of the archive, with",
      "commas between, each with its zone, interval and units where export",
      "has written them; - is standard input"
    )
  ),
  interval = c("LENGTH", "length of the bars, as \"1 minute\" or PT1M"),
  json = c("", "print JSON, for another program"),
  language = c("TAG", "language of titles and labels"),
  list = c("FILE", "a file that gets values as a desk's list, a line each"),
  limit = c("N", "at most so many"),
  map = c("PAIRS", "the file's names of columns, as time=When,value=Level"),
  members = c(
    "LIST",
    paste(
      "only members of a list, each on the days on which it was one, as",
      "quay/members/Q20 or quay/directory"
    )
  ),
  name = c("NAME", "the name to give"),
  over = c(
    "LENGTH",
    paste(
      "change from the value this long before, as \"1 year\", not from the",
      "previous value"
    )
  ),
  port = c("N", "port on this machine"),
  quiet = c("", "show no progress"),
  requests = c("N", "stop after so many requests"),
  samples = c("FOLDER", "folder of sample answers"),
  append = c("FILE", "a .csv, .tsv or .xlsx file with a table that grows"),
  table = c(
    "NAME", "--append: the name of the table in a workbook, or its sheet"
  ),
  session = c("NAME", "part of the trading day: regular, early, late or all"),
  span = c(
    "LENGTH",
    paste(
      "length of history up to now or to the newest value, as \"10 days\"; in",
      "place of --from"
    )
  ),
  symbol = c(
    "SYMBOL", "symbol of a file of bars that has no column of symbols"
  ),
  "time-as" = c(
    "FORM",
    paste(
      "form of the file's times: rfc3339 (or days), epoch-s, epoch-ms,",
      "epoch-us, epoch-ns"
    )
  ),
  title = c("TEXT", "title, in words"),
  to = c("DAY", "last day (included) or instant"),
  unit = c("UNIT", "unit of the values"),
  value = c("COLUMN", "column of bars to use"),
  wait = c("LENGTH", "longest pause to wait for, as \"2 hours\""),
  window = c("LENGTH", "length of the window, as \"30 days\""),
  yes = c("", "go ahead without asking"),
  zone = c("ZONE", "time zone of days and local times")
)

# For a shared option `help` adds to the shared text: "; ..." or a default in
# brackets.
cli_option <- function(name, help = "", default = NULL, flag = FALSE,
                       metavar = toupper(name), short = NULL) {
  shared <- cli_shared[[name]]
  if (!is.null(shared)) {
    metavar <- shared[1]
    flag <- !nzchar(metavar)
    help <- paste0(
      shared[2], if (nzchar(help) && !grepl("^[;:,]", help)) " ", help
    )
  }
  flags <- c(if (!is.null(short)) paste0("-", short), paste0("--", name))
  if (flag) {
    return(
      optparse::make_option(
        flags,
        action = "store_true", default = FALSE, help = help
      )
    )
  }
  optparse::make_option(
    flags,
    type = "character", default = default, help = help, metavar = metavar
  )
}

cli_place_options <- function() list(cli_option("desk"), cli_option("archive"))

cli_json_option <- function() list(cli_option("json"))

cli_session_option <- function() {
  cli_option("session", "[regular]", default = "regular")
}

cli_window_options <- function() list(cli_option("from"), cli_option("to"))

cli_query_options <- function() {
  c(
    list(cli_option("interval"), cli_option("span")), cli_window_options(),
    list(
      cli_option(
        "session", "[regular]; a collection takes regular or all",
        default = "regular"
      ),
      cli_option("account")
    )
  )
}

# A table with a row a value, or a column a series, item or period.
cli_form_option <- function(default, more = "") {
  cli_option("form", paste0(more, " [", default, "]"), default = default)
}
