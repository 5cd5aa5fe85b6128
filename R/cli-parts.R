# What several commands share: their options, the desk they work at, and how tables are printed.

cli_place_options <- function() {
  list(
    cli_option("desk", "the desk's folder; by default the one this is called in", metavar = "FOLDER"),
    cli_option("archive", "an archive file, instead of the desk's", metavar = "FILE")
  )
}

cli_json_option <- function() list(cli_option("json", "print JSON, for another program", flag = TRUE))

cli_window_options <- function() {
  list(
    cli_option("from", "first day or instant, as 2026-03-12", metavar = "DAY"),
    cli_option("to", "last day (included) or instant", metavar = "DAY")
  )
}

cli_want_options <- function() {
  c(
    list(
      cli_option("interval", "length of the bars, as \"1 minute\" or PT1M", metavar = "LENGTH"),
      cli_option("span", "length of history up to now, as \"10 days\"; instead of --from", metavar = "LENGTH")
    ),
    cli_window_options(),
    list(
      cli_option("session", "regular, or all for early and late trading too [regular]", default = "regular", metavar = "NAME"),
      cli_option("offer", "the source's offer; one that gives no bars takes words such as station=kelder-lock", metavar = "NAME"),
      cli_option("account", "one of the card's accounts, where it has several keys", metavar = "NAME")
    )
  )
}

cli_desk <- function(options, needed = TRUE) {
  if (is.null(options$desk) && !needed) {
    # that there is no desk is no fault; that its file is wrong is one
    return(tryCatch(desk_open("."), vetusta_error_desk = function(e) if (isTRUE(e$absent)) NULL else stop(e)))
  }
  desk_open(options$desk %||% ".")
}

cli_archive <- function(options, create = FALSE) {
  path <- options$archive %||% cli_desk(options)$archive
  archive_open(path, create = create)
}

cli_needs <- function(options, name) {
  if (is.null(options[[name]])) cli_usage_error("it needs --", name)
  options[[name]]
}

cli_source <- function(options, name = options$words[1]) {
  desk <- cli_desk(options, needed = FALSE)
  if (is.null(desk)) source_card(name, account = options$account) else desk_source(desk, name, options$account)
}

# Symbols for bars; key=value words for an offer of anything else.
cli_want <- function(options) {
  source <- cli_source(options)
  words <- options$words[-1]
  if (!is.null(source$sdmx) && is.null(options$offer)) {
    if (!length(words)) cli_usage_error("name a dataset; `vetusta find ", options$words[1], "` lists them")
    return(want_observations(source, words[1], from = options$from, to = options$to, history = isTRUE(options$history), archive = cli_want_archive(options, create = TRUE),
      keys = cli_pairs(words[-1], split = FALSE)))
  }
  if (!is.null(options$offer) && !is.null(source$offers[[options$offer]]) && source$offers[[options$offer]]$shape != "bars") {
    return(do.call(want_rows, c(list(source, options$offer), cli_pairs(words), list(span = options$span, from = options$from, to = options$to))))
  }
  want_bars(source, cli_symbols(words), interval = cli_needs(options, "interval"), span = options$span, from = options$from, to = options$to,
    session = options$session, offer = options$offer)
}

# KELD,TAMX are two symbols, as KELD TAMX are.
cli_symbols <- function(words) {
  parts <- trimws(unlist(strsplit(words, ",", fixed = TRUE)))
  parts[nzchar(parts)]
}

cli_want_archive <- function(options, create) {
  desk <- cli_desk(options, needed = FALSE)
  path <- options$archive %||% desk$archive
  if (is.null(path)) cli_desk(options)
  if (!create && !file.exists(path)) NULL else archive_open(path)
}

# The calendar asked for, else that of the series' source where the desk has its card, else none.
cli_calendar <- function(options, archive, symbols, interval) {
  if (!is.null(options$calendar)) {
    return(source_calendar(options$calendar))
  }
  desk <- cli_desk(options, needed = FALSE)
  held <- archive_series(archive)
  source <- unique(held$source[held$symbol %in% symbols & held$interval == time_interval(interval)$iso])
  known <- !is.null(desk) && length(source) == 1 && file.exists(file.path(desk$sources, paste0(source, ".yml")))
  if (known) source_calendar(desk_source(desk, source)) else NULL
}

# Bars for gaps, figures and exports: read, and regrouped where that is asked for.
cli_bars <- function(options, symbols) {
  symbols <- cli_symbols(symbols)
  archive <- cli_archive(options)
  interval <- cli_needs(options, "interval")
  calendar <- cli_calendar(options, archive, symbols, interval)
  zone <- if (is.null(calendar)) "UTC" else calendar$zone
  session <- if (is.null(options$session) || options$session == "all") NULL else options$session
  bars <- archive_bars(archive, if (length(symbols)) symbols, interval, from = options$from, to = options$to, source = options$source, zone = zone)
  regular <- is.null(session) || all(is.na(bars$session))
  if (!regular) bars <- bars[bars$session %in% session, ]
  if (!is.null(options$regroup)) bars <- bars_regroup(bars, options$regroup, calendar, session = if (is.null(calendar)) NULL else session, base = interval, need = 0)
  list(bars = bars, calendar = calendar, zone = zone, interval = options$regroup %||% interval, session = session)
}

cli_bars_options <- function() {
  c(
    list(
      cli_option("interval", "length of the archived bars, as \"1 minute\"", metavar = "LENGTH"),
      cli_option("regroup", "a longer length to regroup them to, as \"1 day\"", metavar = "LENGTH")
    ),
    cli_window_options(),
    list(
      cli_option("session", "regular, early, late, or all [regular]", default = "regular", metavar = "NAME"),
      cli_option("calendar", "a calendar's name or file; by default that of the series' source", metavar = "NAME"),
      cli_option("source", "the source, where several have the symbol", metavar = "NAME")
    ),
    cli_place_options()
  )
}

cli_print_table <- function(frame, empty = "nothing") {
  if (!nrow(frame)) {
    cli_say(empty)
    return(invisible())
  }
  cat(text_table(frame, cli_width()), sep = "\n")
}

# Lines are cut to a terminal's width; a file or another program gets them whole.
cli_width <- function() if (isatty(stdout())) cli::console_width() else Inf

# What is a list stays one in JSON, however many things are in it.
cli_array <- function(x) I(as.character(x))

cli_print_json <- function(x) {
  plain <- function(value) {
    if (inherits(value, "AsIs")) value
    else if (inherits(value, "POSIXct")) format_instant(value)
    else if (inherits(value, "vetusta_interval")) value$iso
    else if (is.double(value) && !is.object(value)) ifelse(is.finite(value), paste0("\u0002", format_exact(value)), NA_character_)
    else if (is.data.frame(value)) list_frame(lapply(as.list(value), plain))
    else if (is.list(value)) lapply(value, plain)
    else value
  }
  # numbers in the shortest text that reads back the same: they travel as marked texts, whose quotes go
  text <- jsonlite::toJSON(plain(x), dataframe = "rows", auto_unbox = TRUE, digits = NA, null = "null", na = "null", pretty = TRUE)
  cat(gsub("\"\\\\u0002([^\"]*)\"", "\\1", text), "\n", sep = "")
}
