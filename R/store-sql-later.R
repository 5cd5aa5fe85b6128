# Gathered pages: up to a number of pages, or a fifth of a second, are written
# in one transaction. Nothing of them is stored before, so a killed process
# requests them again.

later_rows <- 1000L
later_seconds <- 0.2

# Whether a page may wait: FALSE where it must be written at once.
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
  later$pages[[length(later$pages) + 1L]] <-
    list(page = page, values = page_places(page, segment))
  later$claims <- c(later$claims, page$claims)
  TRUE
}

# Seconds until waiting pages must be written; Inf without any.
later_due <- function(store) {
  if (!length(store$later$pages)) {
    return(Inf)
  }
  max(0, store$later$since + later_seconds - as.numeric(Sys.time()))
}

# Writes the waiting pages. Where rows of a page are stored already, each page
# is written alone, and the correction of its counts is added to `wrong`.
store_gathered <- function(store) {
  pages <- store$later$pages
  if (!length(pages)) {
    return(invisible())
  }
  store$later$pages <- list()
  store$later$claims <- character()
  together <- length(pages) > 1 &&
    tryCatch(
      {
        suspendInterrupts(store_transaction(store, function() {
          places <- lapply(seq_along(page_names), function(i) {
            parts <- lapply(pages, function(entry) entry$values[[i]])
            if (page_names[i] == "body") {
              unlist(parts, recursive = FALSE)
            } else {
              unlist(parts)
            }
          })
          sql_page_in(store, places)
        }))
        TRUE
      },
      vetusta_error_archive = function(e) {
        if (grepl("times are stored", e$what, fixed = TRUE)) {
          FALSE
        } else {
          stop(e)
        }
      }
    )
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
  # overlapping rows will come again, so gathering is of no use
  if (!together && length(pages) > 1) store$gathers <- FALSE
  invisible()
}

# The correction of the counts of a dataset's gathered pages since the last
# call.
later_wrong <- function(store, source, dataset) {
  of <- paste(source, dataset, sep = "\r")
  wrong <- store$later$wrong[[of]] %||% no_counts
  store$later$wrong[[of]] <- NULL
  wrong
}
