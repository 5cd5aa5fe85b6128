# The words of desk.yml, checked like those of source cards, with the line and
# the nearest right word.

desk_grammar <- function() {
  list(
    desk = "text",
    archive = "text",
    columns = "text",
    sources = "text",
    urls = list(.each = "text"),
    log = "text",
    on_failure = "text",
    on_success = "text",
    on_finding = "text",
    checks = desk_checks_grammar(),
    track = list(.each = desk_query_grammar()),
    outputs = list(.each = desk_output_grammar())
  )
}

# Rules of series with their settings, or `false`; and rules of the desk.
desk_checks_grammar <- function() {
  settings <- lapply(c(watch_defaults, watch_more), function(rule) {
    c(list(.short = "flag"), lapply(rule, function(setting) "number"))
  })
  c(settings, list(
    differ = list(.each = list(series = "!texts", percent = "number")),
    adds_up = list(.each = "texts")
  ))
}

desk_query_grammar <- function() {
  list(
    source = "!text",
    dataset = "text",
    title = "text",
    symbols = desk_list_grammar(),
    keys = list(.each = desk_list_grammar()),
    interval = "duration",
    session = c("word", "regular", "all"),
    account = "text",
    from = "text",
    to = "text",
    span = "span",
    history = "flag",
    lookback = "duration",
    every = "duration",
    stale = "duration",
    times = "texts"
  )
}

# Values in place, or their origin.
desk_list_grammar <- function() {
  list(
    .short = "values", file = "text", column = "text", sheet = "text",
    rows = "text", with = "text", series = "text", where = "texts"
  )
}

desk_output_grammar <- function() {
  list(
    title = "text",
    series = "texts",
    rows = "text",
    statement = list(
      symbols = "texts",
      facts = "text",
      period = c("word", "annual", "quarterly", "trailing"),
      items = "texts",
      filed = c("word", "first", "last"),
      add_periods = "flag",
      limit = "count"
    ),
    rank = list(
      of = "texts",
      by = c("word", "up", "down", "traded", "range", "high", "low"),
      limit = "count",
      min_volume = "number",
      min_price = "number",
      type = "text"
    ),
    where = "texts",
    columns = "texts",
    from = "text",
    to = "text",
    span = "span",
    session = "text",
    labels = c("word", "codes", "labels", "both"),
    fill = "texts",
    at_most = "count",
    adjust = c("word", "splits", "all"),
    resample = "duration",
    using = "text",
    change = "text",
    window = "duration",
    over = "duration",
    align = "text",
    form = c("word", "long", "wide", "sides"),
    file = "text",
    append = "text",
    table = "text",
    figure = c("word", names(cli_drawn)),
    panels = c("word", "free", "fixed"),
    index = "flag",
    log_scale = "flag",
    dark = "flag",
    report = "flag",
    parts = "texts",
    template = "text",
    model = "text"
  )
}

# Words that exclude each other in an entry, and why.
desk_clashes <- list(
  track = list(
    c("span", "from", "a query has a span or a from"),
    c("symbols", "keys", "bars have symbols, all other rows have keys")
  ),
  outputs = list(
    c("series", "rows", "an output is of series or of rows"),
    c("statement", "series", "a statement has symbols: of its own"),
    c("statement", "rows", "a statement has facts: of its own"),
    c("rank", "series", "a ranking names its series by of:"),
    c("rank", "rows", "a ranking names its rows by of:"),
    c("rank", "statement", "an output is a ranking or a statement"),
    c("file", "append", "an output is written anew or appended"),
    c("figure", "append", "a figure is a separate file"),
    c("report", "append", "a report is a separate file"),
    c("report", "figure", "a report has its own figures"),
    c("report", "rows", "a report is of series, or of the whole archive"),
    c("model", "series", "a model's file names its series"),
    c("model", "rows", "a model has a single series"),
    c("model", "append", "a model is a report"),
    c("model", "figure", "a model's report has its figures"),
    c("rows", "from", "rows have no window; use where:"),
    c("rows", "span", "rows have no window; use where:"),
    c("rows", "to", "rows have no window; use where:"),
    c("figure", "columns", "a figure has no columns"),
    c("figure", "where", "a figure has no rows"),
    c("figure", "form", "a figure is not a table"),
    c("align", "form", "what is aligned is wide"),
    c("span", "from", "an output has a span or a from")
  )
)

# Words that need others.
desk_beside <- list(
  outputs = list(
    using = "resample", at_most = "fill", over = "change", window = "change",
    table = "append", fill = "series", resample = "series", change = "series",
    align = "series", parts = "report", template = "report", figure = "series",
    panels = "figure", index = "figure", log_scale = "figure", dark = "figure",
    labels = "series", session = "series", from = "series", to = "series",
    span = "series", adjust = "series"
  )
)

# Checks the content of a desk's file. `place` gives file and line of a path of
# keys.
desk_checked <- function(content, place) {
  as_desk_errors(card_check(content, desk_grammar(), character(), place))
  for (part in names(desk_clashes)) {
    for (name in names(content[[part]])) {
      desk_check_entry(content, part, name, place)
    }
  }
}

desk_check_entry <- function(content, part, name, place) {
  entry <- content[[part]][[name]]
  stop_entry <- function(keys, what, todo) {
    vetusta_stop("desk", what, where = place(c(part, name, keys)), todo = todo)
  }
  if (!grepl("^[a-z][a-z0-9-]*$", name)) {
    stop_entry(
      character(),
      paste0("\"", name, "\" is no name of ", single_entry[[part]], "."),
      "use small letters, digits and hyphens, beginning with a letter"
    )
  }
  for (clash in desk_clashes[[part]]) {
    if (all(clash[1:2] %in% names(entry))) {
      stop_entry(
        clash[2],
        paste0(
          "`", clash[1], "` and `", clash[2], "` are in the same entry: ",
          clash[3], "."
        ),
        paste("remove one of the two")
      )
    }
  }
  for (word in intersect(names(desk_beside[[part]]), names(entry))) {
    needed <- desk_beside[[part]][[word]]
    if (!needed %in% names(entry)) {
      stop_entry(
        word, paste0("`", word, "` needs `", needed, "`."),
        paste0("add ", needed, ":, or leave ", word, " out")
      )
    }
  }
  for (key in intersect(c("from", "to"), names(entry))) {
    desk_check_day(entry[[key]], stop_entry, key)
  }
  for (text in entry$times) {
    tryCatch(desk_times(text), vetusta_error_desk = function(e) {
      stop_entry("times", e$what, e$todo)
    })
  }
}

single_entry <- c(track = "a query", outputs = "an output")

# Days, periods or instants.
desk_check_day <- function(value, stop_entry, key) {
  text <- as.character(value)
  good <- !is.na(read_day(text)) ||
    !is.na(time_periods(text)$first) ||
    !inherits(try(time_instant(text), silent = TRUE), "try-error")
  if (!good) {
    stop_entry(
      key, paste0("`", key, "` cannot be \"", text, "\"."),
      paste0(
        "write it as a year, a day or an instant: 2015, 2026-03-12, ",
        "2026-03-12T09:30:00Z"
      )
    )
  }
}

# Any error while reading a desk is an error of the desk.
as_desk_errors <- function(work) {
  tryCatch(work, vetusta_error_card = function(e) {
    vetusta_stop(
      "desk",
      sub("^the card", "the desk", sub("^The card", "The desk", e$what)),
      where = e$where, todo = e$todo
    )
  })
}

# Lists of values as vectors.
desk_plain <- function(content) {
  if (!is.list(content)) {
    return(content)
  }
  if (length(content) &&
    is.null(names(content)) &&
    all(
      vapply(content, function(item) is.atomic(item) && length(item) == 1, TRUE)
    )) {
    return(vapply(content, as.character, ""))
  }
  lapply(content, desk_plain)
}
