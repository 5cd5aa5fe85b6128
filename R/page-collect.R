# Refreshing tracked queries from the page; only with `--collect`.

browse_collect_ui <- function(place) {
  tags <- shiny::tags
  tags$div(
    tags$p(
      class = "soft",
      "The tracked queries of this desk are refreshed by a process of its own."
    ),
    shiny::selectInput(
      "tracked", "Query", c("all" = "", place$tracked),
      selectize = FALSE
    ),
    shiny::actionButton("refresh", "Refresh"),
    shiny::actionButton("stop", "Stop"),
    tags$pre(
      class = "shiny-text-output noplaceholder", id = "progress",
      `aria-live` = "polite"
    )
  )
}

browse_collect_server <- function(place, input, output, session) {
  run <- new.env(parent = emptyenv())
  run$lines <- character()
  told <- shiny::reactiveVal(0)
  running <- function() !is.null(run$process) && run$process$is_alive()
  shiny::observeEvent(input$refresh, {
    if (!running()) {
      query <- intersect(input$tracked, place$tracked)
      run$lines <- character()
      run$process <- browse_refresh(place, query)
      told(told() + 1)
    }
  })
  shiny::observeEvent(input$stop, {
    # an interrupt lets the request that is under way be stored
    if (running()) run$process$interrupt()
  })
  shiny::observe({
    told()
    if (is.null(run$process)) return()
    alive <- run$process$is_alive()
    run$lines <- utils::tail(
      c(run$lines, run$process$read_output_lines()), 200
    )
    if (alive) {
      shiny::invalidateLater(400, session)
    } else {
      run$lines <- c(run$lines, paste0(
        "ended with status ", run$process$get_exit_status()
      ))
      run$process <- NULL
    }
    output$progress <- shiny::renderText(paste(run$lines, collapse = "\n"))
  })
  session$onSessionEnded(function() {
    if (running()) run$process$interrupt()
  })
}

browse_refresh <- function(place, query) {
  processx::process$new(
    file.path(R.home("bin"), "Rscript"),
    c(
      "--no-init-file", "-e", "vetusta::cli_main()", "refresh", query, "--desk",
      place$folder
    ),
    stdout = "|", stderr = "2>&1",
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
}
