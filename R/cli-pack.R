# vetusta pack and unpack: series to take along.
cli_pack <- function(arguments) {
  options <- cli_arguments(
    arguments, "pack", "ID... FILE.zip",
    c(cli_window_options(), list(cli_option("as-of")), cli_place_options()),
    c(
      "vetusta pack \"quay/bars/KELD*\" kelder-lock keld.zip",
      "vetusta pack \"basin/FREIGHT_PRICES/*\" freight.zip --as-of 2026-03-01"
    )
  )
  words <- options$words
  n <- length(words)
  if (n < 2 || !grepl("[.]zip$", words[n])) {
    cli_usage_error("name series, and last the file to write, as keld.zip")
  }
  from <- if (is.null(options$archive)) {
    cli_desk(options)
  } else {
    cli_archive(options)
  }
  file <- desk_pack(
    from, cli_ids(words[-n]), words[n], options$from, options$to, options$as_of
  )
  cli_say(
    "wrote ", words[n], ": ", format_bytes(file.size(file)),
    "; vetusta unpack ", words[n], " FOLDER makes a desk of it"
  )
}

cli_unpack <- function(arguments) {
  options <- cli_arguments(
    arguments, "unpack", "FILE.zip FOLDER", cli_json_option(),
    "vetusta unpack keld.zip keld-desk"
  )
  if (length(options$words) != 2) {
    cli_usage_error("name the pack, and the folder to make")
  }
  result <- pack_open(options$words[1], options$words[2])
  if (options$json) {
    cli_print_json(list(pack = as.data.frame(result)))
  } else {
    cat(format(result), sep = "\n")
    cli_say("the desk is in ", options$words[2])
  }
  if (all(result$same)) 0L else 3L
}
