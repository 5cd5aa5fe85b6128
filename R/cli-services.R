cli_services <- function(arguments) {
  options <- cli_arguments(
    arguments, "services", "",
    list(
      cli_option("port", ", 0 for a free one [8471, or the desk's]"),
      cli_option("desk", "; its desk.yml gets the services' URLs"),
      cli_option(
        "seconds", "end after so many seconds; by default never",
        metavar = "N"
      ),
      cli_option(
        "page-size", "the largest page, in rows [240]",
        default = "240",
        metavar = "N"
      ),
      cli_option(
        "rate", "requests a minute that the exchange allows [90]",
        default = "90", metavar = "N"
      ),
      cli_option(
        "fault",
        paste0("simulate a fault: ", paste(standin_faults, collapse = ", ")),
        metavar = "KIND"
      ),
      cli_option(
        "fault-every", "spoil every N-th answer [3]",
        default = "3",
        metavar = "N"
      ),
      cli_option(
        "release",
        "which release of its figures the statistics office has, 1 or 2 [2]",
        default = "2", metavar = "N"
      ),
      cli_option(
        "no-availability", "the statistics office has no availability query",
        flag = TRUE
      ),
      cli_option(
        "today",
        paste(
          "live on this day, as 2026-03-27, with faults of daily life; the",
          "client has VETUSTA_TODAY=2026-03-27 in its environment"
        ),
        metavar = "DAY"
      ),
      cli_option(
        "speed", "--today: how many times as fast the services' time runs [1]",
        metavar = "N"
      )
    ),
    c(
      "vetusta services", "vetusta services --port 0 --desk demo-desk",
      "vetusta services --today 2026-03-27"
    ),
    most = 0
  )
  number <- function(name, least) {
    value <- suppressWarnings(as.numeric(options[[name]]))
    if (length(value) != 1 || is.na(value) || value < least) {
      cli_usage_error("--", name, " must be a number, ", least, " or more")
    }
    value
  }
  port <- if (!is.null(options$port)) {
    number("port", 0)
  } else {
    cli_desk_port(options$desk)
  }
  if (!is.null(options$fault) && !options$fault %in% standin_faults) {
    cli_usage_error(
      "--fault cannot be \"", options$fault, "\"; ",
      suggest_word(options$fault, standin_faults)
    )
  }
  if (!is.null(options$speed) && is.null(options$today)) {
    cli_usage_error("--speed is for --today")
  }
  seconds <- if (is.null(options$seconds)) Inf else number("seconds", 0)
  services_serve(
    port,
    until = seconds,
    most = number("page_size", 1),
    requests_a_minute = number("rate", 1),
    fault = options$fault,
    every = number("fault_every", 1),
    release = if (number("release", 1) > 1) 2 else 1,
    availability = !options$no_availability,
    today = options$today,
    speed = if (is.null(options$speed)) 1 else number("speed", 1),
    ready = function(port) {
      urls <- standin_urls(port, options$fault)
      if (!is.null(options$desk)) {
        desk <- desk_open(options$desk)
        desk_make(
          desk$folder,
          title = desk$title,
          cards = character(),
          urls = utils::modifyList(desk$urls, urls)
        )
      }
      cat(
        text_table(
          data.frame(
            service = names(standin_titles),
            source = unname(standin_titles),
            url = unlist(urls)
          )
        ),
        sep = "\n"
      )
      cat("\n", paste0(names(standin_keys), "=", standin_keys, "\n"), sep = "")
      flush(stdout())
      cli_say(
        if (is.finite(seconds)) {
          paste("serving for", seconds, "seconds")
        } else {
          "serving until stopped with Ctrl-C"
        }
      )
    }
  )
}

# The port of the services that the desk expects, so that a desk made by the
# demo works again later.
cli_desk_port <- function(folder) {
  url <- if (!is.null(folder)) desk_open(folder)$urls$quay
  port <- if (!is.null(url)) curl::curl_parse_url(url)$port
  if (length(port)) as.numeric(port) else 8471
}
