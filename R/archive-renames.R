# Symbols that were renamed: their bars are one history under either name. The
# actions of the source say so (`kind` rename, `successor` the new symbol,
# `ex_day` the first day under it), as far as they are known.

# Renames of a source, as known at an instant: old, new, and the start of the
# first day under the new name in seconds; NULL without any.
archive_renames <- function(archive, source, at, zone) {
  bodies <- sql_get(
    archive,
    "SELECT r.body FROM records r JOIN types t ON t.source = r.source AND
      t.dataset = r.dataset AND t.name = 'successor' WHERE r.source = ? AND
      r.shape = 'actions' AND r.body LIKE '%\"rename\"%'
      ORDER BY r.known",
    list(source)
  )$body
  if (!length(bodies)) {
    return(NULL)
  }
  rows <- words_frame(bodies)
  rows <- split(rows, rows$kind)[["rename"]]
  rows <- rows[!is.na(rows[["successor"]]), , drop = FALSE]
  day <- read_day(rows$ex_day)
  said <- if (is.null(rows[["announced"]])) day else read_day(rows$announced)
  said[is.na(said)] <- day[is.na(said)]
  start <- as.numeric(time_local(day, 0, zone))
  out <- data.frame(
    old = as.character(rows$symbol), new = as.character(rows$successor),
    start = start
  )
  # an action counts from its announcement
  out <- out[!is.na(day) & as.numeric(said) * 86400 <= at, , drop = FALSE]
  out <- out[out$old != out$new, , drop = FALSE]
  out <- out[!duplicated(out, fromLast = TRUE), , drop = FALSE]
  if (nrow(out)) out
}

# All names of a symbol, oldest first: name, from, until (seconds). A name may
# return.
renames_of <- function(symbol, renames) {
  first <- symbol
  limit <- Inf
  repeat {
    before <- renames[renames$new == first & renames$start < limit, ]
    if (!nrow(before)) break
    before <- before[which.max(before$start), ]
    first <- before$old
    limit <- before$start
  }
  names <- first
  starts <- -Inf
  repeat {
    n <- length(names)
    after <- renames[renames$old == names[n] & renames$start > starts[n], ]
    if (!nrow(after)) break
    after <- after[which.min(after$start), ]
    names <- c(names, after$new)
    starts <- c(starts, after$start)
  }
  data.frame(name = names, from = starts, until = c(starts[-1], Inf))
}

# Series of bars with those of their other names, a row per stored series:
# `shown` is the symbol that was asked for, `spans` has the times in which it
# was its name (from, until). Of several names of one history in `series`, the
# newest is shown.
series_renamed <- function(archive, series, at) {
  facts <- dataset_facts(archive, series$source[1], series$dataset[1])
  renames <- archive_renames(
    archive, series$source[1], at, trace_zone(facts)
  )
  if (is.null(renames)) {
    return(NULL)
  }
  symbols <- as.character(series_dimensions(series)$symbol)
  hit <- which(symbols %in% c(renames$old, renames$new))
  if (!length(hit)) {
    return(NULL)
  }
  every <- store_series(archive, series$source[1], series$dataset[1])
  sides <- function(rows) {
    side <- series_dimensions(rows)[["side"]] %||% rep(NA, nrow(rows))
    paste(rows$frequency, side)
  }
  known <- as.character(series_dimensions(every)$symbol)
  # the other series are as they are
  others <- series[setdiff(seq_len(nrow(series)), hit), names(every)]
  others$shown <- symbols[setdiff(seq_len(nrow(series)), hit)]
  others$spans <- vector("list", nrow(others))
  parts <- lapply(hit, function(i) {
    names <- renames_of(symbols[i], renames)
    alike <- symbols[sides(series) == sides(series[i, ])]
    asked <- names$name[names$name %in% alike]
    # the newest name that was asked for has the history
    if (symbols[i] != asked[length(asked)]) {
      return(NULL)
    }
    own <- which(
      known %in% names$name & sides(every) == sides(series[i, ])
    )
    out <- every[own, ]
    out$shown <- rep(symbols[i], length(own))
    out$spans <- lapply(known[own], function(name) names[names$name == name, ])
    out
  })
  do.call(rbind, c(list(others), parts))
}

# Series without those whose history has another name among them.
series_without_former <- function(archive, series, at) {
  groups <- split(
    seq_len(nrow(series)),
    paste(series$source, series$dataset, series$frequency, sep = "\r")
  )
  former <- unlist(lapply(groups, function(rows) {
    part <- series[rows, ]
    if (!startsWith(part$frequency[1], "P")) {
      return(NULL)
    }
    renamed <- series_renamed(archive, part, at)
    symbols <- as.character(series_dimensions(part)$symbol)
    if (!is.null(renamed)) rows[!symbols %in% renamed$shown]
  }))
  if (length(former)) series[-former, , drop = FALSE] else series
}

# Series and those of their other names, which a reading needs too.
series_with_former <- function(archive, series, at) {
  groups <- split(
    seq_len(nrow(series)),
    paste(series$source, series$dataset, series$frequency, sep = "\r")
  )
  ids <- unlist(lapply(groups, function(rows) {
    if (startsWith(series$frequency[rows[1]], "P")) {
      series_renamed(archive, series[rows, ], at)$id
    }
  }))
  more <- setdiff(ids, series$id)
  if (!length(more)) {
    return(series)
  }
  rbind(series, store_series(archive, ids = more)[names(series)])
}

# The rows of series that are not of their time under that name.
rows_unnamed <- function(renamed, owner, time) {
  out <- logical(length(time))
  for (i in which(lengths(renamed$spans) > 0)) {
    at <- which(owner == i)
    spans <- renamed$spans[[i]]
    inside <- logical(length(at))
    for (k in seq_len(nrow(spans))) {
      inside <- inside |
        (time[at] >= spans$from[k] & time[at] < spans$until[k])
    }
    out[at[!inside]] <- TRUE
  }
  which(out)
}
