# Pages that wait for each other: up to so many, or a fifth of a second, are written in one
# transaction. Nothing of them is in the archive before, so a process that is killed meanwhile asks
# for them again.

later_rows <- 1000L
later_seconds <- 0.2

# Whether a page may wait: FALSE where it has to be written by itself.
sql_put_later <- function(store, page) {
  if (isTRUE(page$again) || length(page$rows$rows$time) > later_rows) {
    return(FALSE)
  }
  segment <- sql_quick_segment(store, page)
  if (is.null(segment)) {
    return(FALSE)
  }
  later <- store$later
  if (!length(later$pages)) later$since <- as.numeric(Sys.time())
  later$pages[[length(later$pages) + 1L]] <- list(page = page, values = page_places(page, segment))
  later$claims <- c(later$claims, page$claims)
  TRUE
}

# Seconds until the pages that wait have to be written; Inf where none waits.
later_due <- function(store) {
  if (!length(store$later$pages)) {
    return(Inf)
  }
  max(0, store$later$since + later_seconds - as.numeric(Sys.time()))
}

# Writes the pages that wait. Where the rows of one are in the archive already, each is written by
# itself, and what its rows were then is noted in `wrong`: counts to add to those that were given.
store_gathered <- function(store) {
  pages <- store$later$pages
  if (!length(pages)) {
    return(invisible())
  }
  store$later$pages <- list()
  store$later$claims <- character()
  together <- length(pages) > 1 && tryCatch({
    suspendInterrupts(store_transaction(store, function() {
      places <- lapply(seq_along(page_names), function(i) {
        parts <- lapply(pages, function(entry) entry$values[[i]])
        if (page_names[i] == "body") unlist(parts, recursive = FALSE) else unlist(parts)
      })
      sql_page_in(store, places)
    }))
    TRUE
  }, vetusta_error_archive = function(e) {
    if (grepl("times are stored", e$what, fixed = TRUE)) FALSE else stop(e)
  })
  for (entry in pages) {
    if (together) {
      sql_page_gathered(store, entry$page)
    } else {
      counts <- sql_put_now(store, entry$page)
      counts[["new"]] <- counts[["new"]] - length(entry$page$rows$rows$time)
      of <- paste(entry$page$source, entry$page$dataset, sep = "\r")
      wrong <- store$later$wrong[[of]] %||% no_counts
      store$later$wrong[[of]] <- wrong + counts[names(no_counts)]
    }
  }
  # rows that are there already come again: to try them together is of no use
  if (!together && length(pages) > 1) store$gathers <- FALSE
  invisible()
}

# What the counts of a dataset's gathered pages were wrong by since they were asked for last.
later_wrong <- function(store, source, dataset) {
  of <- paste(source, dataset, sep = "\r")
  wrong <- store$later$wrong[[of]] %||% no_counts
  store$later$wrong[[of]] <- NULL
  wrong
}
