cli_sources <- function(arguments) {
  options <- cli_arguments(
    arguments, "sources", "[list|check CARD|draft|test [CARD]|cookbook [WORD]]",
    c(
      list(
        cli_option(
          "sample",
          paste0(
            "draft: a sample of an answer, JSON or CSV; give it several ",
            "times, the first and ", "the last page above all"
          ),
          metavar = "FILES"
        ),
        cli_option(
          "url",
          paste0(
            "draft: the complete URL of a request to make, or a complete ",
            "command of ", "curl; {NAME} in capitals is a secret"
          ),
          metavar = "URL"
        ),
        cli_option(
          "body", "draft: the body of that request, which is sent by POST",
          metavar = "TEXT"
        ),
        cli_option(
          "header",
          "draft: a header of that request, as \"X-Token: {SURVEY_TOKEN}\"",
          metavar = "NAME:VALUE"
        ),
        cli_option("symbol", "; draft: the one in the URL, for {symbol}"),
        cli_option("name", "the draft's source [new]", default = "new"),
        cli_option("samples", "; by default samples beside the cards"),
        cli_option(
          "live",
          paste0(
            "test: make the requests again, to see whether the service ",
            "has changed"
          ),
          flag = TRUE
        ),
        cli_option("file", ": the draft; by default standard output")
      ),
      cli_place_options()[1], cli_json_option()
    ),
    c(
      "vetusta sources", "vetusta sources check sources/quay.yml",
      "vetusta sources test river", "vetusta sources cookbook cursor",
      paste0(
        "vetusta sources draft --sample first.json --sample last.json ",
        "--name quay --file quay.yml"
      ),
      paste0(
        "vetusta sources draft --url ",
        "'https://data.example.org/v1/levels?key={SURVEY_KEY}'"
      )
    ),
    most = 2
  )
  task <- if (length(options$words)) options$words[1] else "list"
  tasks <- c("list", "check", "draft", "test", "cookbook")
  if (!task %in% tasks) {
    cli_usage_error(
      "\"", task, "\" cannot be done with sources; ", suggest_word(task, tasks)
    )
  }
  if (task == "test") {
    return(cli_sources_test(options))
  }
  if (task == "cookbook") {
    return(cli_cookbook(options))
  }
  if (task == "check") {
    if (length(options$words) != 2) cli_usage_error("check needs a card")
    # a card of the desk by its name, else a file
    card <- cli_source(options, options$words[2])
    if (options$json) {
      cli_print_json(
        list(
          source = card$source,
          title = card$title,
          url = card$url,
          access = card$access$by,
          secrets = cli_array(access_secrets(card$access)),
          limits = cli_array(vapply(card$limits, format_limit, "")),
          datasets = cli_array(names(card$datasets)),
          file = card$file
        )
      )
    } else {
      print(card)
    }
    for (finding in card$findings) cli_say(cli_words(conditionMessage(finding)))
    if (length(card$findings)) {
      return(1L)
    }
    # the stored samples show whether the card reads the service's answers
    rejected <- samples_rejected(
      card, options$samples %||% file.path(dirname(card$file), "samples")
    )
    if (length(rejected)) {
      cli_say(
        "the card is valid, but does not read all of its samples:\n  ",
        paste(rejected, collapse = "\n  ")
      )
      return(1L)
    }
    return(cli_say("the card is right"))
  }
  if (task == "draft") {
    text <- cli_sources_draft(options)
    if (is.null(options$file)) {
      cat(text, sep = "\n")
    } else {
      write_lines_whole(text, options$file, "draft")
    }
    return(
      cli_say(
        "edit what is marked, then: vetusta sources check ",
        options$file %||% "CARD"
      )
    )
  }
  desk <- cli_desk(options)
  cards <- list.files(desk$sources, "[.]yml$", full.names = TRUE)
  cards <- cards[!grepl("[.]calendar[.]yml$", cards)]
  rows <- do.call(
    rbind,
    lapply(cards, function(file) {
      card <- desk_source(desk, sub("[.]yml$", "", basename(file)))
      data.frame(
        source = card$source,
        title = card$title,
        access = card$access$by,
        secrets = if (!length(access_secrets(card$access))) {
          "none needed"
        } else if (all(secrets_set(card))) {
          "set"
        } else {
          "not set"
        },
        limits = paste(vapply(card$limits, format_limit, ""), collapse = ", "),
        datasets = paste(names(card$datasets), collapse = ", ")
      )
    })
  )
  if (options$json) {
    rows$limits <- lapply(
      cards,
      function(file) {
        cli_array(vapply(source_card(file)$limits, format_limit, ""))
      }
    )
    rows$datasets <- lapply(
      cards, function(file) cli_array(names(source_card(file)$datasets))
    )
    cli_print_json(rows)
  } else {
    cli_print_table(rows)
  }
}

# From samples, or from one live request.
cli_sources_draft <- function(options) {
  if (is.null(options$sample) == is.null(options$url)) {
    cli_usage_error("draft needs --sample or --url, and not both")
  }
  if (is.null(options$url)) {
    return(
      source_draft(
        strsplit(options$sample, ",", fixed = TRUE)[[1]], options$name
      )
    )
  }
  headers <- character()
  if (!is.null(options$header)) {
    if (!grepl("^[A-Za-z0-9-]+ *:", options$header)) {
      cli_usage_error("a header is written as \"NAME: value\"")
    }
    headers <- stats::setNames(
      trimws(sub("^[^:]*:", "", options$header)),
      sub(" *:.*", "", options$header)
    )
  }
  collect_draft(
    options$url, headers, options$name, options$desk %||% ".", options$body,
    options$symbol
  )
}

# Lists cards of the cookbook, or shows the only one that fits.
cli_cookbook <- function(options) {
  cards <- source_cookbook(if (length(options$words) > 1) options$words[2])
  if (options$json) {
    return(cli_print_json(as.list(cards[c("name", "about", "card")])))
  }
  if (nrow(cards) == 1) {
    cat(cards$card)
    return(0L)
  }
  cli_print_table(cards[c("name", "about")])
  cli_say("\nnext: vetusta sources cookbook ", cards$name[1])
}
