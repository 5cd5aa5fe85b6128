cli_figure <- function(arguments) {
  options <- cli_arguments(arguments, "figure", "candles|lines ADDRESS...",
    c(cli_read_options(), list(
      cli_option("file", "where to write the figure: .png, .pdf or .svg [candles.png or lines.png]",
        metavar = "FILE"),
      cli_option("base", "lines: scale every first value to this number, as 100",
        metavar = "NUMBER")
    )),
    c("vetusta figure candles \"KELD@1 minute\" --regroup \"1 day\" --file keld.png",
      "vetusta figure lines \"KELD@1 minute\" kelder-lock --base 100"), least = 2)
  what <- options$words[1]
  draw <- cli_figures[[what]]
  if (is.null(draw)) {
    cli_usage_error("\"", what, "\" is no figure; ", suggest_word(what, names(cli_figures)))
  }
  options$words <- options$words[-1]
  base <- if (!is.null(options$base)) suppressWarnings(as.numeric(options$base))
  if (!is.null(base) && (is.na(base) || base <= 0)) {
    cli_usage_error("--base must be a number above 0")
  }
  read <- cli_series(options)
  figure <- draw(cli_regrouped(read, options), read$zone, base)
  file <- options$file %||% paste0(what, ".png")
  figure_save(figure, file)
  cli_say("wrote ", file)
}

cli_figures <- list(
  candles = function(tables, zone, base) {
    if (!all(vapply(tables, is_bars, TRUE))) {
      cli_usage_error("candles are drawn of bars; draw other series as lines")
    }
    figure_candles(cli_joined_bars(tables), zone = zone)
  },
  # single values are lines too
  lines = function(tables, zone, base) {
    figure_lines(cli_joined_bars(lapply(tables, as_line)), base = base, zone = zone)
  }
)

as_line <- function(table) if (is_bars(table)) table else figure_bars(table)

cli_joined_bars <- function(tables) {
  if (length(tables) == 1) {
    return(tables[[1]])
  }
  bars_frame(as.data.frame(data.table::rbindlist(unname(tables), use.names = TRUE, fill = TRUE)))
}
