# Documents: files that rows link to, fetched into a folder, each with its hash.

#' Fetch documents
#'
#' Downloads the documents behind the links of rows, within the source's limits,
#' each to a file of its own, and continues interrupted downloads. An unchanged
#' file that was fetched before is not fetched again.
#'
#' @param source A source, see [source_card()].
#' @param rows Rows with the column `link`, and optionally `symbol`, `filed`,
#'   `kind`, `title`, which name the files; for example `archive_rows(archive,
#'   "register", "filings")`, or a result of [rows_filter()].
#' @param folder The folder of the files; it is created if necessary.
#' @param archive The archive that stores the hash of each file.
#' @param dataset The name of the rows' dataset.
#' @param progress Whether to report each file.
#' @param wait The longest pause, in seconds, to wait for.
#' @return A tibble with a row per link: `symbol`, `title` (if there are any),
#'   `link` (complete), `file` (its name in the folder), `bytes`, `sha256`,
#'   `outcome` (`fetched`; `stored` for an earlier fetch; `failed`; `left` if
#'   the wait for a limit is too long or another process fetches it) and
#'   `message` (the reason).
#' @section Errors: `vetusta_error_argument` for rows without links;
#'   `vetusta_error_export` for a folder that cannot be created;
#'   `vetusta_error_secret` for a missing secret. A link to another host is
#'   followed, without credentials, only if the card allows it, and fails
#'   otherwise.
#' @export
#' @examples
#' \dontrun{
#' filings <- archive_rows(archive, "register", "filings")
#' collect_documents(
#'   source_card("register"), rows_filter(filings, "filed>=2025-01-01"),
#'   "filings", archive
#' )
#' }
collect_documents <- function(source, rows, folder, archive,
                              dataset = "filings", progress = interactive(),
                              wait = 900) {
  check_source(source)
  check_rows(rows)
  check_column(rows, "link")
  check_text(folder, "folder")
  check_archive(archive)
  check_text(dataset, "dataset")
  check_flag(progress, "progress")
  check_number(wait, "wait", 0)
  rows$link <- as.character(rows$link)
  rows <- rows[!is.na(rows$link) & !duplicated(rows$link), , drop = FALSE]
  for (name in access_secrets(source$access)) source_secret(source, name)
  if (!dir.exists(folder) &&
    !suppressWarnings(dir.create(folder, recursive = TRUE))) {
    vetusta_stop(
      "export", "The folder cannot be made.",
      where = folder,
      todo = "check the path and at the rights of the folder above it"
    )
  }
  query <- list(source = source, dataset = list(name = dataset))
  run <- run_make(query, archive_sink(archive, query), most_wait = wait)
  on.exit({
    line_close(run$line)
    run$sink$release()
  })
  documents <- stored_documents(archive, source$source, dataset, folder)
  links <- vapply(
    rows$link, link_whole, "",
    base = source$url, USE.NAMES = FALSE
  )
  # a document is identified by its link as it came, because the service's URL
  # may change
  names <- document_names(rows, documents)
  all <- lapply(seq_along(links), function(i) {
    document <- document_fetch(
      run, dataset, rows$link[i], links[i], names[i], folder, documents, archive
    )
    if (progress) {
      cli::cli_inform(
        paste0(
          "{i} of {length(links)}: {document$outcome}, {document$file %||% ",
          "links[i]}"
        )
      )
    }
    document
  })
  column <- function(name, empty) {
    vapply(
      all, function(item) item[[name]] %||% empty, empty,
      USE.NAMES = FALSE
    )
  }
  as_rows(
    c(
      as.list(rows)[intersect(c("symbol", "title"), names(rows))],
      list(
        link = links,
        file = column("file", NA_character_),
        bytes = column("bytes", NA_real_),
        sha256 = column("sha256", NA_character_),
        outcome = column("outcome", ""),
        message = column("message", NA_character_)
      )
    )
  )
}

document_fetch <- function(run, dataset, key, link, name, folder, documents,
                           archive) {
  as_stored <- function(copies) {
    known <- copies[copies$link == key, ]
    if (nrow(known) &&
      identical(file_sha256(file.path(folder, known$file)), known$sha256)) {
      list(
        outcome = "stored", file = known$file, bytes = known$bytes,
        sha256 = known$sha256
      )
    }
  }
  if (!is.null(there <- as_stored(documents))) {
    return(there)
  }
  if (is.na(link)) {
    return(list(outcome = "failed", message = "the link is no URL"))
  }
  if (!may_follow(link, run$source$url, run$source$elsewhere)) {
    return(
      list(
        outcome = "failed",
        message = paste0(
          "the link leads elsewhere, to ", origin_of(link),
          ": where this is intended, write elsewhere: follow in the card"
        )
      )
    )
  }
  began <- now_seconds()
  # two processes that fetch into one folder would write into one partial file
  claim <- claim_name(
    run$source$source, dataset, "document", document_note(folder, key)
  )
  if (store_claim(archive, claim, run$started) != "ours") {
    return(
      as_stored(
        stored_documents(archive, run$source$source, dataset, folder)
      ) %||%
        list(outcome = "left", message = "another process is at it")
    )
  }
  on.exit(store_claim_done(archive, claim))
  entry <- function(outcome, message, status = NA) {
    run$sink$journal(
      list(
        run = run$name,
        symbol = name,
        asked = began,
        seconds = now_seconds() - began,
        status = status,
        bytes = NA,
        rows = NA,
        outcome = outcome,
        url = redact(link, run$secrets()),
        message = redact(message, run$secrets())
      )
    )
  }
  # the partial file is named by its link, so that only the same file is resumed
  part <- file.path(folder, paste0(".", content_hash(charToRaw(link)), ".part"))
  ended <- download_patiently(
    run,
    link,
    part,
    stumbled = function(why) entry("retried", why)
  )
  if (!is.null(ended$wait)) {
    return(
      list(
        outcome = "left",
        message = paste("the limit allows it in", format_seconds(ended$wait))
      )
    )
  }
  if (!is.null(ended$reason)) {
    why <- redact(as.character(ended$reason), run$secrets())
    entry("failed", why)
    return(list(outcome = "failed", message = why))
  }
  hash <- file_sha256(part)
  bytes <- file.size(part)
  if (!suppressWarnings(file.rename(part, file.path(folder, name)))) {
    return(
      list(
        outcome = "failed",
        message = "the file cannot be moved into the folder"
      )
    )
  }
  unlink(paste0(part, ".tag"))
  entry("stored", paste("the file", name), 200L)
  store_note(
    archive, "document", run$source$source, dataset,
    document_note(folder, key),
    as.character(
      jsonlite::toJSON(
        list(file = name, bytes = bytes, sha256 = hash),
        auto_unbox = TRUE,
        digits = NA
      )
    )
  )
  list(outcome = "fetched", file = name, bytes = bytes, sha256 = hash)
}

# A link as an absolute URL, relative to the source's.
link_whole <- function(link, base) absolute_url(link, paste0(base, "/"))

# File names from company, day, title and the ending of the link. A name that
# another link has gets a number.
document_names <- function(rows, documents) {
  part <- function(name) {
    text <- if (is.null(rows[[name]])) {
      rep("", nrow(rows))
    } else {
      condition_texts(rows[[name]])
    }
    ifelse(is.na(text), "", text)
  }
  about <- ifelse(nzchar(part("title")), part("title"), part("kind"))
  plain <- paste(part("symbol"), part("filed"), about, sep = "-")
  stem <- gsub(
    "^[-.]+|[-.]+$", "",
    gsub(
      "[^A-Za-z0-9._-]+", "-",
      iconv(plain, "UTF-8", "ASCII//TRANSLIT", sub = "-")
    )
  )
  stem <- substr(ifelse(nzchar(stem), stem, "document"), 1, 80)
  path <- sub("[?#].*", "", rows$link)
  ending <- ifelse(
    grepl("/[^/]*[.][A-Za-z0-9]{1,5}$", path),
    tolower(sub("^.*[.]", "", path)), "html"
  )
  names <- paste0(stem, ".", ending)
  known <- documents$file[match(rows$link, documents$link)]
  taken <- documents$file[!documents$link %in% rows$link]
  for (i in seq_along(names)) {
    if (!is.na(known[i])) names[i] <- known[i]
    number <- 2
    while (tolower(names[i]) %in% tolower(c(taken, names[seq_len(i - 1)]))) {
      names[i] <- paste0(stem[i], "-", number, ".", ending[i])
      number <- number + 1
    }
  }
  names
}
