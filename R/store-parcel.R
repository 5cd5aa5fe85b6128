# Rows for a store: series with two times, frames of one instant, or records by
# key. The class of a parcel alone decides how it is stored.

# `series` is a data frame of key, frequency, dimensions (JSON) and, where there
# are attributes, attributes (JSON) and attributes_known; `rows` are columns
# with `series` (the row number there), `time`, `known` (NA without a stated
# instant) and values. With `finishes`, a row replaces a provisional one of its
# time.
parcel_series <- function(series, rows, finishes = FALSE) {
  structure(
    list(series = series, rows = rows, finishes = finishes),
    class = "vetusta_parcel_series"
  )
}

# Rows of one instant, as a table; `place` is their part of the whole, `key` the
# columns that identify rows.
parcel_frame <- function(rows, at, place, key) {
  structure(
    list(rows = rows, at = at, place = place, key = key),
    class = "vetusta_parcel_frame"
  )
}

# Rows by a key, which become JSON objects.
parcel_records <- function(keys, rows) {
  structure(list(keys = keys, rows = rows), class = "vetusta_parcel_records")
}

# The time columns; all others are values.
time_columns <- c("time", "known")

# Stored and new rows of one series as one history. A row that equals the one
# before it is left out; one that contradicts a row of the same instant counts
# from its arrival. Returns list(rows, counts, came), where `came` says which
# rows are of the new ones.
merge_history <- function(old, new, now, finishes = FALSE, anew = FALSE) {
  if (!length(old$time) && is_plain_history(new)) {
    return(
      list(
        rows = new,
        counts = c(new = length(new$time), changed = 0, unchanged = 0),
        came = TRUE
      )
    )
  }
  # a block in which no row states its instant has no such column
  if (length(old$time)) {
    old$known <- old[["known"]] %||% utc(rep(NA_real_, length(old$time)))
  }
  new$known <- known_on_arrival(old, new, now, finishes, anew)
  count_old <- length(old$time)
  all <- as.list(
    data.table::rbindlist(list(old, new), use.names = TRUE, fill = TRUE)
  )
  fresh <- seq_along(all$time) > count_old
  time <- as.numeric(all$time)
  known <- known_order(all$known)
  order <- order(time, known, fresh, method = "radix")
  clash <- clashes(order, time, known, fresh)
  if (length(clash$late)) {
    differ <- rows_apart(all, clash$late, clash$late_before, names(new))
    # what replaces a first value counts from the same instant
    late <- clash$late[differ & is.finite(known[clash$late])]
    known[late] <- now
    all$known[late] <- utc(now)
    order <- order(time, known, fresh, method = "radix")
  }
  n <- length(order)
  row <- order[-1]
  before <- order[-n]
  again <- c(FALSE, time[row] == time[before])
  same <- again
  same[again] <-
    !rows_apart(all, order[again], order[which(again) - 1L], names(new))
  drop <- fresh[order] & same
  # deleting what never existed has no effect, unless it is dated: then it ends
  # a value that may come later
  if (!is.null(all[["status"]])) {
    drop <- drop |
      (fresh[order] &
        !again &
        all$status[order] %in% "deleted" &
        !is.finite(known[order]))
  }
  # a corrected older release replaces the original
  replaced <- logical(n)
  if (n > 1) {
    twice <- which(
      again & known[order] == c(NA, known[before]) & fresh[order] & !drop
    )
    replaced[twice - 1L] <- TRUE
  }
  # a row is new if its time was not stored; a later release of it in the same
  # page is a change
  first <- !again & !time[order] %in% time[!fresh]
  kept <- fresh[order] & !drop & !replaced
  counts <- c(
    new = sum(kept & first),
    changed = sum(kept & !first),
    unchanged = sum(fresh[order] & same)
  ) +
    0
  list(
    rows = lapply(all, `[`, order[!drop & !replaced]), counts = counts,
    came = fresh[order][!drop & !replaced]
  )
}

# Instants in order: a row without a stated one counts from the end of its time,
# before all others of it.
known_order <- function(known) {
  known <- as.numeric(known)
  known[is.na(known)] <- -Inf
  known
}

# The instants from which new rows count. A stated instant stays. Without one,
# the first row of a time gets NA, which means the end of that time, and a later
# row gets its arrival. If the clock was set back, the arrival is moved just
# behind the stored rows of that time. An unfinished first value is replaced in
# place, and with `anew` (a page is parsed again) every first value is.
known_on_arrival <- function(old, new, now, finishes = FALSE, anew = FALSE) {
  known <- as.numeric(new$known)
  unstated <- is.na(known)
  if (!any(unstated) || (!length(old$time) && rises_cpp(new$time))) {
    return(new$known)
  }
  now <- whole_micros(now)
  time <- as.numeric(new$time)
  place <- match(time, as.numeric(old$time))
  first <- is.na(place) & !time %in% time[!unstated]
  late <- which(unstated & !first)
  late <- setdiff(
    late, which(unstated & place %in% rows_replaced(old, finishes, anew))
  )
  known[late] <- now
  latest <- max(known_order(old$known), -Inf)
  if (latest >= now && length(late)) {
    newest <- tapply(known_order(old$known), as.numeric(old$time), max)
    before <- newest[match(time[late], as.numeric(names(newest)))]
    behind <- which(before >= now)
    known[late[behind]] <- whole_micros(before[behind] + 2e-6)
  }
  utc(known)
}

# The stored first values that a new row replaces in place.
rows_replaced <- function(old, finishes, anew) {
  first <- is.na(as.numeric(old$known))
  if (anew) {
    return(which(first))
  }
  time <- as.numeric(old$time)
  alone <- !time %in% time[duplicated(time)]
  if (finishes) which(first & alone & old[["status"]] %in% "provisional")
}

# The counts of merge_history() where every row that is not `fresh` (later than
# the stored ones) equals a stored one; NULL where that takes a closer look.
counts_behind <- function(old, new, fresh) {
  if (!is_plain_history(old) || !is_plain_history(new)) {
    return(NULL)
  }
  again <- which(!fresh)
  at <- match(as.numeric(new$time)[again], as.numeric(old$time))
  stated <- as.numeric(new$known)[again]
  arrivals <- known_order(old[["known"]] %||% rep(NA_real_, length(old$time)))
  if (anyNA(at) || any(stated < arrivals[at], na.rm = TRUE)) {
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

# Rows with distinct times, in order, without deletions.
is_plain_history <- function(rows) {
  length(rows$time) > 0 &&
    rises_cpp(rows$time) &&
    !any(rows$status == "deleted", na.rm = TRUE)
}

# New rows with the time and instant of a stored one: `late` where that is the
# newest of its time.
clashes <- function(order, time, since, fresh) {
  n <- length(order)
  if (n < 2) {
    return(list())
  }
  row <- order[-1]
  before <- order[-n]
  hit <- which(
    time[row] == time[before] &
      since[row] == since[before] &
      fresh[row] &
      !fresh[before]
  )
  last <- c(time[order[-1]] != time[order[-n]], TRUE)[hit + 1L]
  list(late = row[hit[last]], late_before = before[hit[last]])
}

# Whether rows `a` differ from rows `b` in the new rows' columns.
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

# Of several rows with one time and instant the later counts.
unique_history <- function(rows) {
  n <- length(rows$time)
  if (n < 2 || rises_cpp(rows$time)) {
    return(rows)
  }
  time <- as.numeric(rows$time)
  known <- known_order(rows$known)
  order <- order(time, known, method = "radix")
  same <- c(
    time[order[-1]] == time[order[-n]] & known[order[-1]] == known[order[-n]],
    FALSE
  )
  lapply(rows, `[`, order[!same])
}
