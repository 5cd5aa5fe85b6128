# Standard errors of coefficients under autocorrelated noise.

# The covariance of coefficients under autocorrelated noise of varying variance.
season_spread <- function(x, rest, weight) {
  n <- nrow(x)
  moments <- x * (rest * weight)
  bread <- chol2inv(
    chol(crossprod(x * sqrt(weight)) + diag(1e-10 * n / 1e6, ncol(x)))
  )
  before <- moments[-n, , drop = FALSE]
  after <- moments[-1, , drop = FALSE]
  # the autocorrelation of each moment, kept below one
  memory <- colSums(before * after) / pmax(colSums(before^2), 1e-300)
  memory <- pmax(-0.97, pmin(0.97, memory))
  white <- after - before * rep(memory, each = n - 1)
  middle <- newey_west(white)
  back <- 1 / (1 - memory)
  middle <- middle * outer(back, back)
  n / (n - ncol(x)) * bread %*% (n * middle) %*% bread
}

# The long-run covariance of columns: Bartlett weights, bandwidth of Newey and
# West (1994).
newey_west <- function(x) {
  n <- nrow(x)
  sums <- rowSums(x)
  reach <- floor(4 * (n / 100)^(2 / 9))
  covariances <- vapply(
    0:reach,
    function(lag) {
      sum(sums[seq_len(n - lag)] * sums[seq_len(n - lag) + lag]) / n
    },
    0
  )
  whole <- covariances[1] + 2 * sum(covariances[-1])
  slope <- 2 * sum(seq_len(reach) * covariances[-1])
  band <- if (abs(whole) > 0) {
    floor(1.1447 * ((slope / whole)^2)^(1 / 3) * n^(1 / 3))
  } else {
    0
  }
  band <- max(0, min(band, floor(n / 4), 4 * reach + 20))
  # the weighted sum over lags equals the product of moving sums
  none <- matrix(0, band, ncol(x))
  sums <- apply(rbind(0 * x[1, , drop = FALSE], none, x, none), 2, cumsum)
  rows <- seq_len(n + band)
  crossprod(
    sums[rows + band + 1, , drop = FALSE] - sums[rows, , drop = FALSE]
  ) /
    n / (band + 1)
}

season_coefficients <- function(model, n) {
  estimate <- model$estimate
  names <- names(estimate)
  change <- diag(length(estimate))
  if (!is.null(model$spec$effects)) {
    last <- season_last(model$spec)
    seasonal <- !grepl("^(level|trend)", names)
    change <- rbind(change, -as.numeric(seasonal))
    names <- c(names, last)
  }
  value <- as.numeric(change %*% estimate)
  error <- sqrt(pmax(0, diag(change %*% model$spread %*% t(change))))
  reach <- stats::qt(1 - (1 - model$level) / 2, max(1, n - length(estimate))) *
    error
  unit <- if (is.na(model$unit)) "units" else model$unit
  as_rows(
    list(
      term = names,
      estimate = value,
      error = error,
      low = value - reach,
      high = value + reach,
      unit = ifelse(startsWith(names, "trend"), paste(unit, "a year"), unit)
    )
  )
}

season_last <- function(spec) {
  names <- list(
    month = month.name,
    weekday = c(
      "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday",
      "Sunday"
    )
  )[[spec$effects]]
  names[spec$present[length(spec$present)]]
}
