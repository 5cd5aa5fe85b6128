# Stored samples of answers, read again: they show whether a card still reads
# them, and whether a service has changed. samples_keep() writes them.

#' @rdname samples_keep
#' @param source A source, see [source_card()].
#' @param live Whether to repeat the requests and compare the columns of the
#'   answers; otherwise no request is made.
#' @return `samples_test()`: a tibble with a row per sample: `sample`,
#'   `dataset`, `rows` (decoded now), `outcome` (`same`, `changed`, `failed`)
#'   and `message` (the difference).
#' @export
samples_test <- function(source, folder, live = FALSE) {
  check_source(source)
  check_text(folder, "folder")
  check_flag(live, "live")
  files <- list.files(folder, "[.]sample[.]json$", full.names = TRUE)
  all <- lapply(files, function(file) {
    tryCatch(
      jsonlite::fromJSON(file, simplifyVector = TRUE),
      error = function(e) {
        vetusta_stop(
          "argument", "A sample cannot be read.",
          where = file,
          todo = "save it again with vetusta try --samples"
        )
      }
    )
  })
  matching <- vapply(
    all, function(sample) identical(sample$source, source$source), TRUE
  )
  if (!any(matching)) {
    vetusta_stop(
      "argument", paste0("There are no samples of ", source$source, "."),
      where = folder, todo = "save some with vetusta try --samples"
    )
  }
  rows <- Map(
    function(file, sample) sample_test(source, sample, file, live),
    files[matching], all[matching]
  )
  as_rows(as.list(data.table::rbindlist(rows)))
}

sample_test <- function(source, sample, file, live) {
  sample_row <- function(rows, outcome, message = "") {
    list(
      sample = basename(file), dataset = sample$dataset, rows = rows,
      outcome = outcome, message = message
    )
  }
  dataset <- source$datasets[[sample$dataset]]
  if (is.null(dataset)) {
    return(
      sample_row(
        NA_real_, "failed", paste0("the card has no dataset ", sample$dataset)
      )
    )
  }
  about <- jsonlite::fromJSON(sample$asked)
  body <- tryCatch(
    if (live) {
      sample_live(source, dataset, about)
    } else {
      readBin(
        file.path(dirname(file), sample$body), "raw",
        file.size(file.path(dirname(file), sample$body))
      )
    },
    vetusta_error = identity
  )
  if (inherits(body, "vetusta_error")) {
    return(sample_row(NA_real_, "failed", sub("[.]$", "", body$what)))
  }
  texts <- tryCatch(
    sample_rows(source, dataset, about, body),
    vetusta_error = identity
  )
  if (inherits(texts, "vetusta_error")) {
    # the service answers, but not in the form that the card describes
    return(sample_row(NA_real_, if (live) "changed" else "failed", texts$what))
  }
  kept <- as.character(unlist(sample$rows))
  differs <- if (live) {
    sample_columns(kept, texts)
  } else {
    sample_differs(kept, texts)
  }
  sample_row(
    as.numeric(length(texts)), if (nzchar(differs)) "changed" else "same",
    differs
  )
}

# Rows of an answer as texts, read by a card.
sample_rows <- function(source, dataset, about, body) {
  record_texts(as.list(sample_page(source, dataset, about, body)$good))
}

sample_page <- function(source, dataset, about, body) {
  query <- reparse_query(source, dataset, about)
  decoded <- decode_body(
    dataset, body, source, about$known,
    where = dataset$name
  )
  tidy <- query_tidy(query, source_calendar(source), about$symbols, decoded)
  page_make(tidy$rows, tidy$rejected)
}

# What a card rejects in the stored samples of its source, in words; empty
# without samples.
samples_rejected <- function(source, folder) {
  files <- list.files(folder, "[.]sample[.]json$", full.names = TRUE)
  unlist(lapply(files, function(file) {
    sample <- tryCatch(
      jsonlite::fromJSON(file, simplifyVector = TRUE),
      error = function(e) NULL
    )
    dataset <- source$datasets[[sample$dataset %||% ""]]
    body <- file.path(dirname(file), sample$body %||% "")
    if (!identical(sample$source, source$source) ||
      is.null(dataset) ||
      !file.exists(body)) {
      return(NULL)
    }
    page <- tryCatch(
      sample_page(
        source, dataset, jsonlite::fromJSON(sample$asked),
        readBin(body, "raw", file.size(body))
      ),
      vetusta_error = identity
    )
    if (inherits(page, "vetusta_error")) {
      return(paste0(basename(file), ": ", page$what))
    }
    if (nrow(page$rejected)) {
      paste0(
        basename(file), ": ", length(unique(page$rejected$row)), " of ",
        counted(nrow(page$rows), "row"), " rejected: ",
        page$rejected$reason[1], " (", page$rejected$detail[1], ")"
      )
    }
  }))
}

sample_live <- function(source, dataset, about) {
  known <- about$known
  for (name in intersect(c("from", "to"), names(known))) {
    known[[name]] <- utc(known[[name]])
  }
  request <- wire_request(
    source, dataset, dataset_values(dataset, known, source$zone)
  )
  tokens <- new.env(parent = emptyenv())
  answer <- fetch_patiently(
    function() wire_signed(request, source, tokens),
    source$patience,
    limit_counter(source$limits, limit_memory()),
    most_wait = 60,
    tries = 2,
    secrets = run_secrets(source, tokens)
  )
  if (judge_status(answer$status) != "good") {
    vetusta_stop(
      "network", paste0("HTTP ", answer$status, ": ", body_excerpt(answer$body))
    )
  }
  answer$body
}

sample_differs <- function(kept, now) {
  if (identical(kept, now)) {
    return("")
  }
  at <- which(utils::head(kept, length(now)) != utils::head(now, length(kept)))
  if (length(at)) {
    paste0(
      "row ", at[1], " was ", substr(kept[at[1]], 1, 60), " and is ",
      substr(now[at[1]], 1, 60)
    )
  } else {
    paste0(length(kept), " rows were kept and ", length(now), " are read")
  }
}

# Columns before and now: values change, columns should not.
sample_columns <- function(kept, now) {
  names <- function(texts) {
    unique(unlist(lapply(json_objects(utils::head(texts, 200)), base::names)))
  }
  if (!length(now)) {
    return(if (length(kept)) "the service sends no rows any more" else "")
  }
  gone <- setdiff(names(kept), names(now))
  new <- setdiff(names(now), names(kept))
  paste(
    c(
      if (length(gone)) paste("without", paste(gone, collapse = ", ")),
      if (length(new)) paste("new:", paste(new, collapse = ", "))
    ),
    collapse = "; "
  )
}
