# The page: its layout and its reactions.

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
    query <- shiny::isolate(session$clientData$url_search)
    if (!allowed(query)) {
      session$close()
      return(invisible())
    }
    browse_server(place, input, output, session, shiny::parseQueryString(query))
  })
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
      tags$style(shiny::HTML(html_asset("report", "report.css"))),
      tags$style(shiny::HTML(html_asset("page", "page.css"))),
      tags$script(shiny::HTML(html_asset("report", "figures.js"))),
      tags$script(shiny::HTML(html_asset("page", "page.js")))
    ),
    tags$a(class = "skip", href = "#main", "To the figure and tables"),
    tags$header(tags$h1(place$title), shiny::uiOutput("about")),
    shiny::sidebarLayout(
      shiny::sidebarPanel(
        width = 3,
        shiny::textInput(
          "search", "Search",
          placeholder = "name, code, source or unit"
        ),
        tags$nav(`aria-label` = "Series", shiny::uiOutput("tree"))
      ),
      shiny::mainPanel(
        width = 9, tags$div(id = "main", tabindex = "-1", browse_main(place))
      )
    )
  )
}

browse_main <- function(place) {
  panel <- function(title, ...) {
    shiny::tabPanel(title, value = tolower(title), ...)
  }
  chosen <- list(
    shiny::uiOutput("chosen"), browse_controls()
  )
  panels <- list(
    panel("Overview", shiny::uiOutput("overview")),
    panel("Figure", shiny::uiOutput("figure"), shiny::uiOutput("effect")),
    panel("Values", shiny::uiOutput("values")),
    panel("Gaps", shiny::uiOutput("gaps")),
    panel("Versions", shiny::uiOutput("versions")),
    panel("Requests", shiny::uiOutput("requests")),
    panel(
      "Trace", browse_day("day", "Values of the day"), shiny::uiOutput("trace")
    ),
    panel(
      "Copy", shiny::uiOutput("lines"),
      shiny::downloadButton("csv", "Values as CSV"),
      shiny::downloadButton("picture", "Figure as PNG"),
      shiny::downloadButton("page", "Figure as HTML")
    ),
    if (place$collect) panel("Collect", browse_collect_ui(place))
  )
  shiny::tagList(
    shiny::conditionalPanel("output.any === true", chosen),
    shiny::conditionalPanel(
      "output.any !== true",
      shiny::tags$p(
        class = "soft", "Choose a series at the left; + adds one to compare."
      )
    ),
    do.call(shiny::tabsetPanel, c(list(id = "view"), Filter(length, panels)))
  )
}

browse_server <- function(place, input, output, session, query) {
  changed <- shiny::reactivePoll(2000, session, place$changed, place$changed)
  state <- shiny::reactiveValues(
    ids = strsplit(query$ids %||% "", "|", fixed = TRUE)[[1]],
    open = query$open %||% ""
  )
  browse_restore(session, query)
  shiny::observeEvent(input$toggle, {
    id <- input$toggle$id
    first <- !length(state$ids)
    state$ids <- if (id %in% state$ids) {
      setdiff(state$ids, id)
    } else if (isTRUE(input$toggle$add)) {
      utils::head(c(state$ids, id), browse_most_chosen)
    } else {
      id
    }
    if (first || identical(input$view, "overview")) {
      shiny::updateTabsetPanel(session, "view", "figure")
    }
  })
  shiny::observeEvent(input$open, {
    id <- input$open$id
    state$open <- if (identical(state$open, id)) "" else id
  })
  chosen <- shiny::reactive({
    changed()
    browse_chosen(place, state$ids)
  })
  output$about <- shiny::renderUI({
    changed()
    browse_about(place)
  })
  search <- shiny::debounce(shiny::reactive(input$search %||% ""), 150)
  output$tree <- shiny::renderUI({
    changed()
    browse_shown(
      browse_try(browse_tree(place, search(), state$open, state$ids))
    )
  })
  output$overview <- shiny::renderUI({
    changed()
    browse_shown(browse_try(browse_overview(place)))
  })
  output$any <- shiny::reactive(NROW(chosen()) > 0)
  shiny::outputOptions(output, "any", suspendWhenHidden = FALSE)
  output$chosen <- shiny::renderUI(browse_chosen_tags(chosen()))
  shiny::observeEvent(chosen(), browse_offer(session, input, chosen()))
  shiny::observe({
    shiny::updateQueryString(
      browse_query(query$token, state, input),
      mode = "replace", session = session
    )
  })
  wanted <- shiny::reactive(browse_wanted(input))
  browse_outputs(place, input, output, shiny::reactive({
    shiny::req(NROW(chosen()) > 0)
    chosen()
  }), wanted)
  if (place$collect) browse_collect_server(place, input, output, session)
}

browse_most_chosen <- 24

browse_outputs <- function(place, input, output, chosen, wanted) {
  # what is not there yet stops an output before browse_try()
  read <- shiny::reactive({
    rows <- chosen()
    choices <- wanted()
    browse_try(browse_read(place, rows, choices))
  })
  figure <- shiny::reactive({
    rows <- chosen()
    tables <- read()
    choices <- wanted()
    browse_try(browse_figure(place, rows, browse_some(tables), choices))
  })
  shown <- function(name, work) {
    shiny::renderUI({
      zone <- browse_zone(place, chosen()$source[1])
      read()
      result <- browse_try(work())
      if (is.data.frame(result)) {
        result <- browse_table_tags(result, name, zone)
      }
      browse_shown(result)
    })
  }
  output$figure <- shiny::renderUI({
    browse_trouble(figure()) %||%
      figure_tags(figure(), "the-figure", level = 2)
  })
  output$effect <- shiny::renderUI(browse_effect(read(), wanted()))
  output$values <- shown("values", function() browse_values(read()))
  output$gaps <- shown("gaps", function() {
    browse_gaps(place, chosen(), browse_some(read()))
  })
  output$versions <- shown("versions", function() {
    browse_versions(place, chosen())
  })
  output$requests <- shown("requests", function() {
    browse_requests(place, chosen())
  })
  output$trace <- shown("trace", function() {
    browse_trace(place, chosen(), wanted()$day)
  })
  output$lines <- shiny::renderUI(
    browse_copies(browse_lines(place, chosen(), wanted()))
  )
  stem <- function() gsub("[^A-Za-z0-9.-]+", "-", chosen()$id[1])
  save_figure <- function(ending) {
    shiny::downloadHandler(
      function() paste0(stem(), ending),
      function(file) {
        drawn <- figure()
        if (inherits(drawn, "condition")) stop(drawn)
        made <- paste0(file, ending)
        figure_save(drawn, made)
        file.rename(made, file)
      }
    )
  }
  output$csv <- shiny::downloadHandler(
    function() paste0(stem(), ".csv"),
    function(file) {
      export_csv(browse_values(read()), file)
    }
  )
  output$picture <- save_figure(".png")
  output$page <- save_figure(".html")
}

# The message to the reader where something cannot be shown.
browse_try <- function(work) {
  tryCatch(
    work,
    vetusta_error = function(e) e,
    shiny.silent.error = function(e) stop(e),
    error = function(e) {
      simpleError(paste("an internal error:", conditionMessage(e)))
    }
  )
}

browse_some <- function(read) {
  if (inherits(read, "condition")) stop(read)
  read
}

browse_trouble <- function(x) {
  if (inherits(x, "condition")) {
    shiny::tags$p(class = "trouble", role = "status", conditionMessage(x))
  }
}

browse_shown <- function(x) {
  browse_trouble(x) %||% x %||%
    shiny::tags$p(class = "soft", role = "status", "there is none")
}
