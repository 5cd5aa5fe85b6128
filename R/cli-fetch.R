# vetusta fetch: downloads the documents that rows link to into a folder.
cli_fetch <- function(arguments) {
  options <- cli_arguments(
    arguments, "fetch", "SOURCE/DATASET [CONDITION...]",
    c(
      list(
        cli_option(
          "folder", "the folder for the files [documents]",
          default = "documents", metavar = "FOLDER"
        ),
        cli_option("limit", "documents, the newest"),
        cli_option(
          "verify",
          "fetch nothing; compare the files with their stored hashes",
          flag = TRUE
        ),
        cli_option("quiet")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      paste0(
        "vetusta fetch register/filings symbol=KELD \"filed>=2025-01-01\" ",
        "--folder filings"
      ),
      "vetusta fetch register/filings --verify --folder filings"
    ),
    least = 1
  )
  parts <- strsplit(options$words[1], "/", fixed = TRUE)[[1]]
  archive <- cli_archive(options)
  if (options$verify && length(parts) == 2) {
    return(
      cli_fetch_check(
        archive_documents(archive, parts[1], parts[2], options$folder), options
      )
    )
  }
  rows <- rows_filter(cli_rows_of(archive, options$words[1]), options$words[-1])
  check_column(rows, "link")
  most <- cli_number(options, "limit", 1)
  if (!is.null(most)) {
    if (!is.null(rows[["filed"]])) rows <- rows_sort(rows, "filed-")
    rows <- utils::head(rows, most)
  }
  if (!nrow(rows)) {
    cli_say(
      "no document fulfils the conditions; `vetusta rows ", options$words[1],
      "` shows all"
    )
    return(0L)
  }
  done <- collect_documents(
    cli_source(options, parts[1]), rows, options$folder, archive, parts[2],
    progress = !options$quiet
  )
  shown <- done[
    intersect(c("symbol", "file", "bytes", "outcome", "message"), names(done))
  ]
  cli_put(
    if (is.null(options$file) && !options$json) shown else done, options,
    "document"
  )
  count <- table(factor(done$outcome, c("fetched", "stored", "failed", "left")))
  cli_say(
    paste(count[count > 0], names(count)[count > 0], collapse = ", "),
    ", into ", options$folder
  )
  if (any(done$outcome %in% c("failed", "left"))) 1L else 0L
}

cli_fetch_check <- function(documents, options) {
  cli_put(
    documents[c("file", "bytes", "sha256", "fetched", "state")], options,
    "document"
  )
  wrong <- sum(documents$state != "whole")
  cli_say(counted(nrow(documents), "document"), ", ", wrong, " changed or gone")
  if (wrong) 1L else 0L
}
