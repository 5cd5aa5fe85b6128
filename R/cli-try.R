cli_try <- function(arguments) {
  options <- cli_arguments(
    arguments, "try", "SOURCE DATASET [SYMBOL...|KEY=VALUE...]",
    c(
      cli_query_options(), cli_place_options(),
      list(
        cli_option("requests", "[2]", default = "2"),
        cli_option(
          "rows",
          paste0(
            "a preview of so many rows; of statistics the newest value of ",
            "the first series"
          ),
          metavar = "N"
        ),
        cli_option(
          "samples",
          "; keep the first, middle and last answer there, without secrets"
        ),
        cli_option("history")
      )
    ),
    c(
      paste0(
        "vetusta try quay KELD --interval \"1 minute\" --from 2026-03-12 ",
        "--to 2026-03-13"
      ),
      paste0(
        "vetusta try river levels station=kelder-lock --from 2026-01-01 ",
        "--samples sources/samples"
      ),
      "vetusta try basin LOCK_TRAFFIC STATE=ORV --rows 20"
    ),
    least = 1
  )
  # a card can be tried without a desk
  counted_in <- if (!is.null(options$archive) ||
    !is.null(cli_desk(options, needed = FALSE))) {
    cli_query_archive(options, create = TRUE)
  }
  rows <- if (!is.null(options$rows)) cli_number(options, "rows", 1)
  tried <- collect_try(
    cli_query(options), cli_number(options, "requests", 1), counted_in, rows
  )
  cat(
    format_try(tried, if (isatty(stdout())) cli::console_width() else Inf),
    sep = "\n"
  )
  if (!is.null(options$samples)) {
    paths <- samples_keep(tried, options$samples)
    cli_say(
      "kept ", counted(length(paths) / 2, "sample"), " in ", options$samples,
      "; `vetusta sources test ", tried$source, "` reads them"
    )
  }
  if (all(
    vapply(tried$requests, function(request) is.null(request$error), TRUE)
  )) {
    0L
  } else {
    1L
  }
}

# All samples of one card, or of all cards of the desk.
cli_sources_test <- function(options) {
  desk <- cli_desk(options, needed = FALSE)
  folder <- options$samples %||%
    file.path(if (is.null(desk)) "." else desk$sources, "samples")
  names <- if (length(options$words) > 1) {
    options$words[-1]
  } else {
    files <- list.files(folder, "[.]sample[.]json$")
    intersect(if (!is.null(desk)) desk_cards(desk), sub("-.*", "", files))
  }
  if (!length(names)) {
    vetusta_stop(
      "argument", "There are no samples to test.",
      where = folder,
      todo = "save some with vetusta try --samples"
    )
  }
  rows <- do.call(
    rbind,
    lapply(names, function(name) {
      source <- cli_source(options, name)
      cbind(
        source = source$source,
        as.data.frame(samples_test(source, folder, options$live))
      )
    })
  )
  if (options$json) {
    cli_print_json(rows)
  } else {
    shown <- names(rows) != "message" | any(nzchar(rows$message))
    cli_print_table(rows[shown])
  }
  if (all(rows$outcome %in% "same")) 0L else 1L
}
