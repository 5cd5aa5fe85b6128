cli_figure <- function(arguments) {
  options <- cli_arguments(arguments, "figure", "candles|lines SYMBOL...",
    c(cli_bars_options(), list(
      cli_option("file", "where to write the figure: .png, .pdf or .svg [candles.png or lines.png]", metavar = "FILE"),
      cli_option("base", "lines: scale every first value to this number, as 100", metavar = "NUMBER")
    )),
    c("vetusta figure candles KELD --interval \"1 minute\" --regroup \"1 day\" --file keld.png", "vetusta figure lines KELD TAMX --interval \"1 minute\" --base 100"),
    least = 2)
  kind <- options$words[1]
  if (!kind %in% c("candles", "lines")) cli_usage_error("\"", kind, "\" is no figure; ", suggest_word(kind, c("candles", "lines")))
  base <- if (!is.null(options$base)) suppressWarnings(as.numeric(options$base))
  if (!is.null(base) && (is.na(base) || base <= 0)) cli_usage_error("--base must be a number above 0")
  read <- cli_bars(options, options$words[-1])
  figure <- if (kind == "candles") figure_candles(read$bars, zone = read$zone) else figure_lines(read$bars, base = base, zone = read$zone)
  file <- options$file %||% paste0(kind, ".png")
  figure_save(figure, file)
  cli_say("wrote ", file)
}
