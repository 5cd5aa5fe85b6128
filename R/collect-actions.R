# The actions of an SDMX message (SDMX 2.1 and 3.0, "Action") applied to stored
# values: merged observations keep what the message leaves out, deletions remove
# what they name, and a value that a full answer lacks is no longer published.

# The page with rows that state in full what is to be stored.
actions_applied <- function(run, chain, page) {
  action <- page$actions$action
  if (is.null(run$sink$catalogue) || is.null(page$series)) {
    return(page)
  }
  came <- page$rows[c("series", "period")]
  page <- actions_widened(run, chain, page)
  hit <- which(page$actions$action %in% c("merge", "lessen"))
  if (length(hit)) page <- actions_merged(run, page, hit)
  if (!chain$updates && all(action %in% "insert")) {
    page <- actions_absent(run, chain, page)
  }
  page$good <- good_rows(page$rows, page$rejected)
  # rows that the answer does not have have no place in it
  if (!identical(came, page$rows[c("series", "period")])) page$origin <- NULL
  page
}

series_keys <- function(page) {
  do.call(
    paste,
    c(
      unname(lapply(page$series[page$dimensions], function(x) {
        ifelse(is.na(x), "", x)
      })),
      sep = "."
    )
  )
}

# Stored series of the request.
stored_actions <- function(run, chain) {
  series <- run$sink$catalogue()
  known <- series_dimensions(series)
  asked <- Filter(length, chain$known$selection)
  fits <- rep(TRUE, nrow(series))
  for (name in names(asked)) {
    fits <- fits & (known[[name]] %||% NA_character_) %in% asked[[name]]
  }
  series[fits, , drop = FALSE]
}

# A deletion whose key leaves dimensions out applies to every stored series that
# matches. An answer to "changes since" with an empty data set of deletions
# deletes nothing.
actions_widened <- function(run, chain, page) {
  page$empties <- page$empties && !chain$updates
  open <- Reduce(
    `|`, lapply(page$series[page$dimensions], is.na), logical(nrow(page$series))
  )
  wide <- which(page$actions$action == "delete" & open[page$rows$series])
  if (!length(wide) && !page$empties) {
    return(page)
  }
  catalogue <- stored_actions(run, chain)
  known <- series_dimensions(catalogue)
  fits <- lapply(wide, function(i) {
    row <- page$series[page$rows$series[i], page$dimensions, drop = FALSE]
    hit <- rep(TRUE, nrow(catalogue))
    for (name in page$dimensions[!is.na(unlist(row))]) {
      hit <- hit & (known[[name]] %||% NA_character_) %in% row[[name]]
    }
    # a period belongs to series of its frequency
    if (!is.na(page$rows$period[i])) {
      hit <- hit & catalogue$frequency == page$frequency[page$rows$series[i]]
    }
    which(hit)
  })
  rows <- page$rows[rep(wide, lengths(fits)), , drop = FALSE]
  of <- unlist(fits)
  if (page$empties) {
    all <- data.frame(
      series = NA_integer_, period = NA_real_, value = NA_real_,
      status = "deleted", words = NA_character_, known = NA_real_
    )
    rows <- rbind(rows, all[rep(1L, nrow(catalogue)), ])
    of <- c(of, seq_len(nrow(catalogue)))
  }
  more <- as.data.frame(
    lapply(stats::setNames(nm = page$dimensions), function(name) {
      (known[[name]] %||% rep(NA_character_, nrow(catalogue)))[of]
    }),
    optional = TRUE
  )
  for (name in setdiff(names(page$series), page$dimensions)) {
    more[[name]] <- rep(NA, length(of))
  }
  rows$series <- nrow(page$series) + seq_along(of)
  keep <- setdiff(seq_len(nrow(page$rows)), wide)
  page$series <- rbind(page$series, more[names(page$series)])
  page$frequency <- c(page$frequency, catalogue$frequency[of])
  page$rows <- rbind(page$rows[keep, , drop = FALSE], rows)
  rownames(page$rows) <- NULL
  page$actions <- list(
    action = c(page$actions$action[keep], rep("delete", length(of))),
    named = c(page$actions$named[keep], vector("list", length(of)))
  )
  page$rejected <- page$rejected[!page$rejected$row %in% wide, , drop = FALSE]
  page$rejected$row <- match(page$rejected$row, keep)
  page
}

# The stored rows of a page's series: a data frame of series (its number in the
# page), period, value, words.
actions_stored <- function(run, page, series) {
  catalogue <- run$sink$catalogue()
  key <- series_keys(page)
  at <- match(
    paste(key[series], page$frequency[series], sep = "\r"),
    paste(catalogue$key, catalogue$frequency, sep = "\r")
  )
  series <- series[!is.na(at)]
  at <- at[!is.na(at)]
  read <- run$sink$stored(catalogue$id[at])
  columns <- read$columns
  n <- length(columns$time)
  rows <- data.frame(
    series = rep(series, read$rows),
    period = as.numeric(columns$time) / 86400,
    value = columns$value %||% rep(NA_real_, n),
    words = columns$words %||% rep(NA_character_, n),
    status = columns$status %||% rep(NA_character_, n)
  )
  rows[!rows$status %in% "deleted", , drop = FALSE]
}

actions_merged <- function(run, page, hit) {
  stored <- actions_stored(run, page, unique(page$rows$series[hit]))
  at <- match(
    paste(page$rows$series[hit], page$rows$period[hit]),
    paste(stored$series, stored$period)
  )
  for (k in seq_along(hit)) {
    i <- hit[k]
    old <- if (!is.na(at[k])) stored[at[k], ]
    page$rows[
      i, c("value", "words", "status")
    ] <- if (page$actions$action[i] == "merge") {
      merged_value(old, page$rows[i, ])
    } else {
      lessened_value(old, page$actions$named[[i]])
    }
  }
  page
}

# Attributes that a message leaves out keep their value.
merged_value <- function(old, new) {
  value <- if (is.na(new$value)) old$value %||% NA_real_ else new$value
  words <- words_list(old$words)
  said <- words_list(new$words)
  words[names(said)] <- said
  value_record(value, words)
}

# Removes what a deletion names; a value of which nothing is left is deleted.
lessened_value <- function(old, named) {
  words <- words_list(old$words)
  words <- words[setdiff(names(words), named)]
  value <- if ("value" %in% named) NA_real_ else old$value %||% NA_real_
  if (is.na(value) && !length(words)) {
    list(NA_real_, NA_character_, "deleted")
  } else {
    value_record(value, words)
  }
}

value_record <- function(value, words) {
  status <- if (is.na(value)) {
    "missing"
  } else if (isTRUE(words$OBS_STATUS %in% c("P", "F"))) {
    "provisional"
  } else {
    "observed"
  }
  list(
    value,
    if (length(words)) {
      record_texts(words[order(names(words))])
    } else {
      NA_character_
    },
    status
  )
}

words_list <- function(words) {
  if (is.null(words) || is.na(words)) {
    list()
  } else {
    as.list(jsonlite::fromJSON(words))
  }
}

# Stored values of the request that a full answer lacks: they stay, and the page
# reports once that they are no longer published.
actions_absent <- function(run, chain, page) {
  catalogue <- if (nrow(page$rows)) stored_actions(run, chain)
  if (!NROW(catalogue)) {
    return(page)
  }
  key <- series_keys(page)
  name <- paste(key, page$frequency, sep = "\r")
  stored <- run$sink$stored(catalogue$id)
  owner <- rep(
    paste(catalogue$key, catalogue$frequency, sep = "\r"), stored$rows
  )
  day <- as.numeric(stored$columns$time) / 86400
  window <- observation_window(chain$known$start, chain$known$end)
  inside <- (is.null(window$from) |
    day >= as.numeric(window$from$first %||% -Inf)) &
    (is.null(window$to) | day <= as.numeric(window$to$last %||% Inf))
  gone <- inside &
    !stored$columns$status %in% c("deleted", "missing") &
    !paste(owner, day) %in% paste(name[page$rows$series], page$rows$period)
  # an answer with only the newest or oldest observations is no full answer
  if (!any(gone) ||
    length(
      unlist(
        run$query$parameters[
          c("firstNObservations", "lastNObservations", "updatedAfter")
        ]
      )
    )) {
    return(page)
  }
  hash <- content_hash(charToRaw(paste(owner[gone], day[gone], collapse = " ")))
  before <- run$sink$noted("unpublished", chain$start)
  if (identical(before$value, hash)) {
    return(page)
  }
  run$sink$note("unpublished", chain$start, hash)
  some <- utils::head(which(gone), 20)
  page$notes <- c(
    page$notes,
    paste0(
      counted(sum(gone), "value"), if (sum(gone) == 1) " is" else " are",
      " no longer published, and ", if (sum(gone) == 1) "is" else "are",
      " kept: ",
      paste0(
        sub("\r.*", "", owner[some]), " ",
        format(epoch_days(floor(day[some]))),
        collapse = ", "
      ),
      if (sum(gone) > 20) " and more"
    )
  )
  page
}
