# The choices above the figure, and their place in the page's URL.

browse_kinds <- c(
  "automatic" = "auto", "lines", "panels", "candles", "coverage" = "gaps",
  "season", "spread", "correlation", "revisions"
)

browse_controls <- function() {
  select <- function(id, label, choices) {
    shiny::selectInput(id, label, choices, selectize = FALSE)
  }
  shiny::tags$div(
    class = "filters", role = "group", `aria-label` = "What is shown",
    select("kind", "Drawn as", browse_kinds),
    browse_day("from", "From"), browse_day("to", "To"),
    select("resample", "Interval", c("as stored" = "")),
    select("over", "Change over", c(
      "none" = "", "1 day", "1 week", "1 month", "3 months", "1 year"
    )),
    browse_day("base", "100 on"),
    select("repair", "Repair", browse_repairs),
    select("fill", "Fill gaps", c(
      "no" = "", "last", "linear", "spline", "monotone", "seasonal"
    )),
    browse_day("as_of", "As known on"),
    shiny::checkboxInput("log", "Logarithmic", FALSE)
  )
}

# A date, with the browser's own control; page.js reports the choice.
browse_day <- function(id, label) {
  tags <- shiny::tags
  tags$div(
    class = "form-group",
    tags$label(class = "control-label", `for` = id, label),
    tags$input(type = "date", id = id, class = "form-control day")
  )
}

browse_fields <- c(
  "kind", "from", "to", "resample", "over", "base", "repair", "fill", "as_of",
  "day"
)

# The choices as a list of texts; days only where they are days.
browse_wanted <- function(input) {
  wanted <- lapply(
    stats::setNames(nm = browse_fields), function(name) input[[name]] %||% ""
  )
  day <- "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
  for (name in c("from", "to", "base", "as_of", "day")) {
    if (!grepl(day, wanted[[name]])) wanted[[name]] <- ""
  }
  wanted$log <- isTRUE(input$log)
  wanted
}

# NULL for a choice that was not made.
given_choice <- function(text) if (nzchar(text)) text

# The state of the page as the query of its URL.
browse_query <- function(token, state, input) {
  fields <- c(
    list(
      token = token, ids = paste(state$ids, collapse = "|"),
      view = input$view, search = input$search
    ),
    lapply(stats::setNames(nm = browse_fields), function(name) input[[name]]),
    list(log = if (isTRUE(input$log)) "yes")
  )
  fields <- Filter(
    function(x) length(x) == 1 && nzchar(x) && !identical(x, "auto"), fields
  )
  paste0(
    "?", paste0(
      names(fields), "=",
      vapply(fields, utils::URLencode, "", reserved = TRUE),
      collapse = "&"
    )
  )
}

# A page that is opened by such a URL has its choices.
browse_restore <- function(session, query) {
  for (name in intersect(names(query), c("kind", "over", "repair", "fill"))) {
    shiny::updateSelectInput(session, name, selected = query[[name]])
  }
  if (length(query$search)) {
    shiny::updateTextInput(session, "search", value = query$search)
  }
  if (identical(query$log, "yes")) {
    shiny::updateCheckboxInput(session, "log", value = TRUE)
  }
  days <- query[intersect(
    names(query), c("from", "to", "base", "as_of", "day")
  )]
  if (length(days)) session$sendCustomMessage("days", days)
  session$userData$resample <- query$resample
  if (length(query$view)) {
    shiny::updateTabsetPanel(session, "view", query$view)
  } else if (nzchar(query$ids %||% "")) {
    shiny::updateTabsetPanel(session, "view", "figure")
  }
}

browse_longer <- c(
  "5 minutes", "15 minutes", "1 hour", "1 day", "1 week", "1 month", "1 year"
)

# The intervals that are longer than those of all chosen series.
browse_offer <- function(session, input, chosen) {
  stored <- chosen$frequency[startsWith(chosen$frequency, "P")]
  longer <- if (length(stored) && length(stored) == nrow(chosen)) {
    seconds <- function(words) {
      vapply(words, function(x) interval_seconds(time_interval(x)), 0)
    }
    browse_longer[seconds(browse_longer) > max(seconds(stored))]
  }
  before <- session$userData$resample %||% shiny::isolate(input$resample)
  session$userData$resample <- NULL
  shiny::updateSelectInput(
    session, "resample",
    choices = c("as stored" = "", stats::setNames(nm = longer)),
    selected = if (isTRUE(before %in% longer)) before else ""
  )
}
