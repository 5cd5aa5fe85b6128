# Rows on their way into a store: series with two times, frames of one instant, or records by key.
# How a shape is kept is told
# by the class of its parcel, and by nothing else.

# `series` is a data frame of key, frequency, dimensions (JSON) and, where something is said of
# them, attributes (JSON) and
# attributes_known; `rows` are columns with `series` (the row number there), `time`, `since` (NA
# where nobody says) and values.
parcel_series <- function(series, rows) {
  structure(list(series = series, rows = rows), class = "vetusta_parcel_series")
}

# Rows of one instant, as a table; `place` tells which part of the whole they are, `key` the
# columns that tell rows apart.
parcel_frame <- function(rows, at, place, key) {
  structure(list(rows = rows, at = at, place = place, key = key), class = "vetusta_parcel_frame")
}

# Rows by a key, each a JSON object; `types` are the columns' types.
parcel_records <- function(keys, bodies, types) {
  structure(list(keys = keys, bodies = bodies, types = types), class = "vetusta_parcel_records")
}

# The columns that stand for time: those of a series, and all others.
time_columns <- c("time", "known")

# Rows of one series that were held and that come, as one history. A row that says what the one
# before it said of its time is
# left out; one that contradicts a row of the same instant counts from its coming. Gives list(rows,
# counts).
merge_history <- function(old, new, now) {
  if (!length(old$time) && is_plain_history(new)) {
    return(list(rows = new, counts = c(new = length(new$time), changed = 0, unchanged = 0)))
  }
  count_old <- length(old$time)
  all <- as.list(data.table::rbindlist(list(old, new), use.names = TRUE, fill = TRUE))
  fresh <- seq_along(all$time) > count_old
  time <- as.numeric(all$time)
  since <- as.numeric(all$known)
  order <- order(time, since, fresh, method = "radix")
  clash <- clashes(order, time, since, fresh)
  if (length(clash$late)) {
    differ <- rows_apart(all, clash$late, clash$late_before, names(new))
    since[clash$late[differ]] <- now
    all$known[clash$late[differ]] <- utc(now)
    order <- order(time, since, fresh, method = "radix")
  }
  n <- length(order)
  row <- order[-1]
  before <- order[-n]
  known <- c(FALSE, time[row] == time[before])
  same <- known
  same[known] <- !rows_apart(all, order[known], order[which(known) - 1L], names(new))
  drop <- fresh[order] & same
  # what is deleted and was never there is nothing
  if (!is.null(all[["status"]])) {
    drop <- drop | (fresh[order] & !known & all$status[order] %in% "deleted")
  }
  # an older release that is corrected takes the place of what it was
  replaced <- logical(n)
  if (n > 1) {
    twice <- which(known & since[order] == c(NA, since[before]) & fresh[order] & !drop)
    replaced[twice - 1L] <- TRUE
  }
  # a row is new where its time was not held; a later release of it in the same page is a change
  first <- !known & !time[order] %in% time[!fresh]
  kept <- fresh[order] & !drop & !replaced
  counts <- c(new = sum(kept & first), changed = sum(kept & !first),
    unchanged = sum(fresh[order] & same)) + 0
  list(rows = lapply(all, `[`, order[!drop & !replaced]), counts = counts)
}

# From when rows are known that are known from their coming: the clock may have been set back since
# what is held came, and then they count from just behind that.
since_in_order <- function(rows, old, now) {
  since <- as.numeric(rows$known)
  arrived <- which(since == whole_micros(now))
  if (!length(arrived) || !length(old$time)) {
    return(rows$known)
  }
  held <- as.numeric(old$known)
  if (max(held) < now) {
    return(rows$known)
  }
  latest <- tapply(held, as.numeric(old$time), max)
  before <- latest[match(as.numeric(rows$time)[arrived], as.numeric(names(latest)))]
  late <- which(before >= since[arrived])
  since[arrived[late]] <- whole_micros(before[late] + 2e-6)
  utc(since)
}

# What merge_history() counts where all that is not `fresh`, later than what is held, is held just
# so and was known then; NULL where that cannot be told at a glance.
counts_behind <- function(old, new, fresh) {
  if (!is_plain_history(old) || !is_plain_history(new)) {
    return(NULL)
  }
  again <- which(!fresh)
  at <- match(as.numeric(new$time)[again], as.numeric(old$time))
  if (anyNA(at) || any(as.numeric(new$known)[again] < as.numeric(old$known)[at])) {
    return(NULL)
  }
  for (name in setdiff(names(new), time_columns)) {
    x <- new[[name]][again]
    y <- old[[name]][at] %||% rep(NA, length(at))
    if (any(is.na(x) != is.na(y)) || any(x != y, na.rm = TRUE)) {
      return(NULL)
    }
  }
  c(new = sum(fresh), changed = 0, unchanged = length(again))
}

# Rows of which each has a time of its own, in order, and none says that there is nothing.
is_plain_history <- function(rows) {
  length(rows$time) > 0 && rises_cpp(rows$time) && !any(rows$status == "deleted", na.rm = TRUE)
}

# Rows that come with the time and the instant of one that is held: `late` where that one is the
# newest of its time.
clashes <- function(order, time, since, fresh) {
  n <- length(order)
  if (n < 2) {
    return(list())
  }
  row <- order[-1]
  before <- order[-n]
  hit <- which(time[row] == time[before] & since[row] == since[before] & fresh[row] &
    !fresh[before])
  last <- c(time[order[-1]] != time[order[-n]], TRUE)[hit + 1L]
  list(late = row[hit[last]], late_before = before[hit[last]])
}

# Whether rows `a` differ from rows `b` in what the new rows say.
rows_apart <- function(all, a, b, columns) {
  differ <- logical(length(a))
  for (name in setdiff(intersect(columns, names(all)), time_columns)) {
    x <- all[[name]][a]
    y <- all[[name]][b]
    unlike <- x != y
    unlike[is.na(unlike)] <- (is.na(x) != is.na(y))[is.na(unlike)]
    differ <- differ | unlike
  }
  differ
}

# Of several rows with one time and since the later counts.
unique_history <- function(rows) {
  n <- length(rows$time)
  if (n < 2 || rises_cpp(rows$time)) {
    return(rows)
  }
  time <- as.numeric(rows$time)
  since <- as.numeric(rows$known)
  order <- order(time, since, method = "radix")
  same <- c(time[order[-1]] == time[order[-n]] & since[order[-1]] == since[order[-n]], FALSE)
  lapply(rows, `[`, order[!same])
}
