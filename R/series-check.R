#' Find wrong values
#'
#' @param x A table of bars, observations, or a table with `series`, `time` and
#'   `value`, in its original order.
#' @param value The number of bars to use.
#' @param jump The number of robust standard deviations of the steps beyond
#'   which a step is a jump.
#' @param stale The number of consecutive equal values from which a run is
#'   stale; for bars only with volume, or if the volume is unknown.
#' @param negative Whether a value below zero is a finding; by default for bars.
#' @return A data frame with a row per finding: `series`, `first` and `last`
#'   (`POSIXct`, UTC), `rows` (their number), `finding` and `detail`. Findings
#'   are `doubled time`, `out of order`, `high below low`, `open or close
#'   outside high and low`, `negative price`, `not finite`, `jumped and came
#'   back`, `stale`. Nothing is changed.
#' @details A value jumped and came back if the steps to it and from it are both
#'   larger than `jump` times the scale of all steps, in opposite directions,
#'   and their sum is less than half of the smaller one. The scale is 1.4826
#'   times the median absolute deviation from the median, the rule of Hampel
#'   (*The influence curve and its role in robust estimation*, 1974; Davies and
#'   Gather, *The identification of multiple outliers*, 1993). Steps are of
#'   logarithms if all values are above zero. If more than half of the steps are
#'   zero, the scale is that of the others.
#' @section Errors: `vetusta_error_shape` for a table that is not a series.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "level",
#'   time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:29,
#'   value = 200 + sin(0:29)
#' )
#' days$value[12] <- 2000
#' series_check(days)
series_check <- function(x, value = NULL, jump = 8, stale = 20,
                         negative = NULL) {
  check_number(jump, "jump", 0)
  check_number(stale, "stale", 1)
  if (!is.null(negative)) check_flag(negative, "negative")
  x <- as_series(x)
  order <- wrong_order(x)
  # rows out of order are a finding
  shape <- without_notes(wrong_shape(x))
  points <- without_notes(
    series_points(x, value_asked(x, value), times_only = TRUE)
  )
  quiet <- shape$quiet %||% rep(FALSE, nrow(points))
  keep <- !is.na(points$value)
  if (has_releases(x)) {
    keep <- keep & !duplicated(points[c("series", "time")], fromLast = TRUE)
  }
  negative <- negative %||% isTRUE(shape$priced)
  points <- lapply(as.list(points)[c("series", "time", "value")], `[`, keep)
  quiet <- quiet[keep]
  parts <- lapply(unname(series_split(points$series)), function(rows) {
    part <- lapply(points, `[`, rows)
    c(
      list(
        if (negative) {
          wrong_at(
            part, which(part$value < 0), "negative price",
            paste("value", part$value)
          )
        },
        wrong_at(part, which(is.infinite(part$value)), "not finite", "infinite")
      ),
      list(wrong_jumps(part, jump), wrong_stale(part, quiet[rows], stale))
    )
  })
  none <- list(
    series = character(), first = numeric(), last = numeric(),
    rows = integer(), finding = character(), detail = character()
  )
  all_findings <- as.data.frame(
    data.table::rbindlist(
      c(list(none, order, shape$findings), unlist(parts, recursive = FALSE)),
      use.names = TRUE
    )
  )
  for (bound in c("first", "last")) {
    all_findings[[bound]] <- utc(all_findings[[bound]])
  }
  as_rows(all_findings[order(all_findings$series, all_findings$first), ])
}

wrong_at <- function(part, at, finding, detail) {
  if (length(at)) {
    list(
      series = part$series[at],
      first = part$time[at],
      last = part$time[at],
      rows = rep(1L, length(at)),
      finding = rep(finding, length(at)),
      detail = rep_len(detail, length(part$series))[at]
    )
  }
}

# In the order of the rows: repeated times, and times before the previous row.
wrong_order <- function(x) {
  series <- series_of_rows(x)
  time <- raw_times(x)
  frame <- data.frame(series = series, time = time)
  release <- if (has_releases(x) && !is.null(x[["known"]])) {
    format_exact(read_known(x$known, nrow(x)))
  }
  key <- paste(series, format_exact(time), release)
  doubled <- which(duplicated(key))
  before <- rep(-Inf, length(time))
  for (rows in series_split(series)) {
    if (is.unsorted(time[rows])) {
      before[rows] <- c(-Inf, cummax(time[rows])[-length(rows)])
    }
  }
  data.table::rbindlist(
    list(
      wrong_at(frame, doubled, "doubled time", ""),
      wrong_at(
        frame, which(time < before), "out of order", "before the row above it"
      )
    )
  )
}

# Checks of the shape: list(findings, quiet, priced), with rows without trades
# and whether values are prices.
wrong_shape <- function(x) UseMethod("wrong_shape")

#' @export
wrong_shape.default <- function(x) NULL

#' @export
wrong_shape.vetusta_bars <- function(x) {
  x <- ordered_bars(x)
  crossed <- bars_check(x)
  crossed <- crossed[
    crossed$reason %in%
      c("high below low", "open or close outside high and low"),
  ]
  findings <- list(
    series = crossed$symbol,
    first = as.numeric(crossed$time),
    last = as.numeric(crossed$time),
    rows = rep(1L, nrow(crossed)),
    finding = crossed$reason,
    detail = crossed$detail
  )
  list(findings = findings, quiet = x$volume %in% 0, priced = TRUE)
}

wrong_jumps <- function(part, jump) {
  v <- part$value
  n <- length(v)
  if (n < 5 || any(!is.finite(v))) {
    return(NULL)
  }
  w <- if (all(v > 0)) log(v) else v
  step <- diff(w)
  scale <- robust_scale(step)
  if (is.na(scale) || scale == 0) {
    return(NULL)
  }
  there <- step[-(n - 1)] - stats::median(step)
  back <- step[-1] - stats::median(step)
  at <- which(
    abs(there) > jump * scale &
      abs(back) > jump * scale &
      sign(there) != sign(back) &
      abs(there + back) < 0.5 * pmin(abs(there), abs(back))
  ) +
    1L
  wrong_at(
    part, at, "jumped and came back",
    paste0(
      "from ", format_number(c(NA, v[-n])), " to ", format_number(v),
      " and back to ", format_number(c(v[-1], NA))
    )
  )
}

robust_scale <- function(step) {
  scale <- stats::mad(step)
  if (scale > 0) {
    scale
  } else if (any(step != 0)) {
    stats::mad(step[step != 0], center = 0)
  } else {
    NA_real_
  }
}

format_number <- function(x) {
  format(signif(x, 7), trim = TRUE, scientific = FALSE, drop0trailing = TRUE)
}

wrong_stale <- function(part, quiet, stale) {
  if (length(part$value) < stale) {
    return(NULL)
  }
  runs <- rle(ifelse(quiet, NA_real_, part$value))
  ends <- cumsum(runs$lengths)
  long <- which(runs$lengths >= stale & !is.na(runs$values))
  if (!length(long)) {
    return(NULL)
  }
  list(
    series = part$series[ends[long]],
    first = part$time[ends[long] - runs$lengths[long] + 1],
    last = part$time[ends[long]],
    rows = runs$lengths[long],
    finding = rep("stale", length(long)),
    detail = paste("value", format_number(runs$values[long]))
  )
}
