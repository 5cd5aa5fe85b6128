# The page: its content and its reactions.

browse_app <- function(place, token) {
  allowed <- function(query) {
    identical(shiny::parseQueryString(query)$token, token)
  }
  ui <- function(request) {
    if (!allowed(request$QUERY_STRING)) {
      return(
        shiny::httpResponse(
          403L,
          "text/plain; charset=utf-8",
          paste0(
            "This page is opened ",
            "by the URL that `vetusta browse` printed, with its token.\n"
          ),
          headers = list("Cache-Control" = "no-store")
        )
      )
    }
    browse_ui(place)
  }
  shiny::shinyApp(ui, function(input, output, session) {
    if (!allowed(shiny::isolate(session$clientData$url_search))) {
      session$close()
      return(invisible())
    }
    browse_server(place, input, output, session)
  })
}

browse_asset <- function(name) {
  paste(
    readLines(
      system.file("page", name, package = "vetusta"),
      warn = FALSE,
      encoding = "UTF-8"
    ),
    collapse = "\n"
  )
}

browse_ui <- function(place) {
  tags <- shiny::tags
  bslib::page_fluid(
    theme = bslib::bs_theme(version = 5),
    lang = "en",
    title = place$title,
    tags$head(
      tags$meta(name = "referrer", content = "no-referrer"),
      tags$link(rel = "icon", href = "data:,"),
      tags$style(shiny::HTML(browse_asset("page.css")))
    ),
    tags$header(tags$h1(place$title), shiny::uiOutput("about")),
    shiny::fluidRow(
      shiny::column(
        5,
        tags$section(
          `aria-label` = "Series", browse_filters(), shiny::uiOutput("series")
        )
      ),
      shiny::column(
        7,
        tags$section(
          `aria-label` = "The series that is chosen", browse_detail()
        )
      )
    ),
    tags$script(shiny::HTML(paste(report_asset("tables.js"), collapse = "\n"))),
    tags$script(shiny::HTML(browse_asset("page.js")))
  )
}

browse_filters <- function() {
  shiny::tags$div(
    class = "filters",
    shiny::textInput("search", "Search", placeholder = "ID or name"),
    shiny::selectInput("source", "Source", c("all" = ""), selectize = FALSE),
    shiny::selectInput("shape", "Kind", c("all" = ""), selectize = FALSE),
    shiny::selectInput(
      "sort", "Order", c("id", "most values" = "values", "newest", "oldest"),
      selectize = FALSE
    )
  )
}

browse_detail <- function() {
  tags <- shiny::tags
  shiny::conditionalPanel(
    "output.chosen === true",
    tags$h2(shiny::textOutput("name", inline = TRUE)),
    shiny::uiOutput("facts"),
    tags$div(
      class = "filters", browse_day("from", "From"), browse_day("to", "To"),
      shiny::selectInput(
        "resample", "Interval", c("as stored" = ""),
        selectize = FALSE
      ),
      browse_day("as_of", "As known on")
    ),
    shiny::tabsetPanel(
      id = "tab",
      shiny::tabPanel(
        "Figure",
        shiny::selectInput(
          "kind", "Drawn as",
          selectize = FALSE,
          c(
            "automatic" = "auto", "lines", "coverage" = "gaps", "season",
            "spread"
          )
        ),
        shiny::uiOutput("figure_said"),
        shiny::plotOutput("figure", height = "440px")
      ),
      shiny::tabPanel("Values", shiny::uiOutput("values")),
      shiny::tabPanel("Gaps", shiny::uiOutput("gaps")),
      shiny::tabPanel("Versions", shiny::uiOutput("versions")),
      shiny::tabPanel("Journal", shiny::uiOutput("journal")),
      shiny::tabPanel(
        "Export", shiny::uiOutput("lines"),
        shiny::downloadButton("csv", "Values as CSV"),
        shiny::downloadButton("picture", "Figure as PNG")
      )
    )
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

browse_server <- function(place, input, output, session) {
  changed <- shiny::reactivePoll(2000, session, place$changed, place$changed)
  catalogue <- shiny::reactive({
    changed()
    browse_series(place)
  })
  shiny::observe(
    browse_offer(
      session, catalogue(), shiny::isolate(input$source),
      shiny::isolate(input$shape)
    )
  )
  chosen <- shiny::reactive(
    browse_chosen(
      catalogue(), input$search, input$source, input$shape, input$sort
    )
  )
  selected <- shiny::reactive({
    rows <- catalogue()
    rows[match(input$series %||% "", rows$id, nomatch = 0), , drop = FALSE]
  })
  output$about <- shiny::renderUI(browse_about(place, catalogue()))
  output$series <- shiny::renderUI(browse_list(place, chosen(), input$series))
  output$chosen <- shiny::reactive(nrow(selected()) == 1)
  shiny::outputOptions(output, "chosen", suspendWhenHidden = FALSE)
  # choices for one series do not apply to the next
  shiny::observeEvent(input$series, browse_reset(session, selected()))
  browse_outputs(
    place, input, output,
    shiny::reactive({
      shiny::req(nrow(selected()) == 1)
      selected()
    })
  )
}

browse_outputs <- function(place, input, output, selected) {
  as_of <- shiny::reactive(browse_window(input$as_of, NULL)$from)
  window <- shiny::reactive(browse_window(input$from, input$to))
  table <- shiny::reactive(
    browse_try(
      browse_table(place, selected(), window(), input$resample, as_of())
    )
  )
  figure <- shiny::reactive(
    browse_try(
      browse_figure(place, selected(), browse_some(table()), input$kind)
    )
  )
  shown <- function(work) {
    shiny::renderUI(
      browse_shown(browse_try(work()), browse_zone(place, selected()$source))
    )
  }
  output$name <- shiny::renderText(
    if (nzchar(selected()$name)) selected()$name else selected()$key
  )
  output$facts <- shiny::renderUI(browse_facts(place, selected()))
  output$figure_said <- shiny::renderUI(browse_trouble(figure()))
  output$figure <- shiny::renderPlot(
    {
      shiny::req(ggplot2::is.ggplot(figure()))
      figure()
    },
    res = 96,
    alt = shiny::reactive(paste("The figure of", selected()$id))
  )
  output$values <- shown(function() as.data.frame(browse_some(table())))
  output$gaps <- shown(
    function() browse_gaps(place, selected(), browse_some(table()))
  )
  output$versions <- shown(function() browse_versions(place, selected()))
  output$journal <- shown(function() browse_journal(place, selected()))
  output$lines <- shiny::renderUI(
    browse_copies(
      browse_lines(place, selected(), window(), input$resample, as_of())
    )
  )
  stem <- function() gsub("[^A-Za-z0-9.-]+", "-", selected()$id)
  output$csv <- shiny::downloadHandler(
    function() paste0(stem(), ".csv"),
    function(file) {
      export_csv(as.data.frame(browse_some(table())), file)
    }
  )
  output$picture <- shiny::downloadHandler(
    function() paste0(stem(), ".png"),
    function(file) {
      drawn <- figure()
      if (inherits(drawn, "condition")) stop(drawn)
      made <- paste0(file, ".png")
      figure_save(drawn, made)
      file.rename(made, file)
    }
  )
}

# The message to the reader where something cannot be shown.
browse_try <- function(work) {
  tryCatch(
    work,
    vetusta_error = function(e) e,
    shiny.silent.error = function(e) stop(e),
    error = function(e) {
      simpleCondition(paste("an internal error:", conditionMessage(e)))
    }
  )
}

browse_some <- function(table) {
  if (inherits(table, "condition")) stop(table)
  if (!NROW(table)) {
    vetusta_stop(
      "figure", "No values in this window.",
      todo = paste0(
        "choose other days; the list shows the first and last time of ",
        "the series"
      )
    )
  }
  table
}

browse_trouble <- function(x) {
  if (inherits(x, "condition")) {
    shiny::tags$p(class = "trouble", role = "status", conditionMessage(x))
  }
}
