# The rules of filling: each takes values on the grid and returns values for the
# missing ones.

# A candidate for every gap, by one rule.
fill_by <- function(rule, value, grid, blocks, how) {
  finite <- ifelse(is.finite(value), value, NA_real_)
  switch(rule,
    last = carry_cpp(finite, blocks, Inf, TRUE),
    `next` = carry_cpp(finite, blocks, Inf, FALSE),
    linear = linear_cpp(finite, grid, blocks),
    spline = ,
    monotone = fill_curve(rule, finite, grid, blocks),
    seasonal = fill_seasonal(finite, grid, how),
    neighbour = fill_neighbour(finite, grid, how$neighbour),
    constant = rep(how$constant, length(value))
  )
}

fill_curve <- function(rule, value, grid, blocks) {
  if (!length(blocks)) blocks <- rep(1L, length(value))
  out <- rep(NA_real_, length(value))
  for (rows in split(seq_along(value), blocks)) {
    good <- rows[!is.na(value[rows])]
    if (length(good) < if (rule == "spline") 3 else 2) next
    inside <- rows[rows >= good[1] & rows <= good[length(good)]]
    curve <- if (rule == "spline") {
      stats::splinefun(grid[good], value[good], method = "natural")
    } else {
      stats::splinefunH(
        grid[good], value[good], monotone_slopes(grid[good], value[good])
      )
    }
    out[inside] <- curve(grid[inside])
  }
  out
}

# The slopes of Fritsch and Carlson's monotone cubic: zero at a turning point,
# and within the circle of radius 3 around the origin of their figure 1, in
# which a piece is monotone.
monotone_slopes <- function(x, y) {
  secant <- diff(y) / diff(x)
  n <- length(secant)
  inner <- if (n > 1) {
    ifelse(
      sign(secant[-n]) * sign(secant[-1]) <= 0, 0,
      secant[-n] / 2 + secant[-1] / 2
    )
  }
  slope <- c(secant[1], inner, secant[n])
  for (k in seq_len(n)) {
    if (secant[k] == 0) {
      slope[k + 0:1] <- 0
      next
    }
    a <- slope[k] / secant[k]
    b <- slope[k + 1] / secant[k]
    if (a^2 + b^2 > 9) {
      slope[k + 0:1] <- c(a, b) * secant[k] * 3 / sqrt(a^2 + b^2)
    }
  }
  slope
}

# For days: values of the same day in other years. Within the day: values of the
# same time in other weeks.
fill_seasonal <- function(value, grid, how) {
  local <- as.POSIXlt(utc(grid), tz = if (how$intraday) how$zone else "UTC")
  slot <- if (how$intraday) {
    local$wday * 86400 + local$hour * 3600 + local$min * 60 + local$sec
  } else {
    local$mon * 100 + local$mday
  }
  # 29 February uses the 28th where no other leap year has a value
  good <- !is.na(value)
  means <- tapply(value[good], slot[good], mean)
  out <- as.numeric(means[as.character(slot)])
  if (!how$intraday) {
    leap <- is.na(out) & slot == 129
    out[leap] <- as.numeric(means["128"])
  }
  out
}

fill_neighbour <- function(value, grid, points) {
  other <- c(NA, points$value)[times_match_cpp(grid, points$time) + 1L]
  both <- !is.na(value) & !is.na(other)
  if (sum(both) < 3 || stats::sd(other[both]) == 0) {
    return(rep(NA_real_, length(grid)))
  }
  slope <- stats::cov(value[both], other[both]) / stats::var(other[both])
  mean(value[both]) + slope * (other - mean(other[both]))
}
