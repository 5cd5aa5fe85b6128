# An error's text in the words of the command line: options for arguments,
# commands for functions.
cli_words <- function(text, command = "") {
  for (name in names(cli_functions)) {
    text <- gsub(paste0(name, "()"), cli_functions[[name]], text, fixed = TRUE)
  }
  text <- gsub("c\\(\"([^\"]*)\", \"([^\"]*)\"\\)", "\\1 \\2", text)
  text <- gsub("point_in_time = FALSE", "--look-ahead", text, fixed = TRUE)
  option <- function(name) {
    other <- as.list(cli_other_words[[command]])[[name]]
    paste0("--", gsub("_", "-", other %||% name))
  }
  for (name in cli_option_words) {
    text <- gsub(paste0("`", name, "`"), option(name), text, fixed = TRUE)
    text <- gsub(
      paste0("\\b", name, " = (\"[^\"]*\")"), paste(option(name), "\\1"), text
    )
  }
  text
}

cli_functions <- list(
  bars_resample = "`vetusta resample`",
  series_aggregate = "`vetusta resample`",
  series_disaggregate = "`vetusta resample`", query_bars = "`vetusta collect`",
  query_rows = "`vetusta collect`", plan_requests = "`vetusta plan`",
  collect_run = "`vetusta collect`", archive_open = "--archive",
  archive_rejected = "`vetusta list rejected`",
  calendar_make = "a calendar file", source_calendar = "--calendar",
  source_card = "its name or its card", desk_open = "--desk",
  figure_lines = "`vetusta figure lines`",
  figure_candles = "`vetusta figure candles`",
  bars_frame = "symbol, time and close"
)

# Where an option differs in name from the function's argument.
cli_other_words <- list(align = c(rule = "take"), resample = c(rule = "using"))

cli_option_words <- c(
  "from", "to", "interval", "span", "rule", "lag", "max_age", "at_most",
  "constant", "neighbour", "window", "over", "or_before", "base", "grid",
  "source", "calendar", "day_start", "value", "zone", "session", "need",
  "minimum_count", "change", "symbol", "map", "time_as", "file", "as_of",
  "below", "above", "strikes", "cap", "horizon", "harmonics", "periods",
  "lower", "upper", "origins", "limit", "min_volume", "min_price", "roll_days",
  "account"
)
