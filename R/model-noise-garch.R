# An ARMA process with GARCH innovations, estimated jointly.

noise_garch <- function(data, order, residuals) {
  # optimisation works best with values near one
  size <- stats::sd(data$value)
  x <- data$value / size
  p <- order[1]
  q <- order[2]
  start <- noise_squares(x, p, q)
  e <- model_innovations_cpp(x, start$ar, start$ma)
  free_df <- residuals == "t"
  split <- function(par) {
    k <- p + q
    list(
      ar = par[seq_len(p)],
      ma = par[p + seq_len(q)],
      omega = exp(par[k + 1]),
      # keeps alpha and beta positive with a sum below one
      whole = stats::plogis(par[k + 2]),
      part = stats::plogis(par[k + 3]),
      df = if (free_df) 2.1 + exp(par[k + 4]) else 0
    )
  }
  minus <- function(par) {
    terms <- split(par)
    model_garch_likelihood_cpp(
      x, terms$ar, terms$ma, terms$omega, terms$whole * terms$part,
      terms$whole * (1 - terms$part), terms$df
    )
  }
  first <- c(
    start$ar, start$ma, log(0.08 * mean(e^2)), stats::qlogis(0.92),
    stats::qlogis(0.1), if (free_df) log(6)
  )
  fit <- stats::optim(
    first,
    minus,
    method = "BFGS",
    control = list(maxit = 500, reltol = 1e-10)
  )
  if (fit$convergence != 0 || !is.finite(fit$value)) {
    noise_unsettled(data, order, "a GARCH(1,1) variance")
  }
  fitted <- split(fit$par)
  alpha <- fitted$whole * fitted$part
  beta <- fitted$whole * (1 - fitted$part)
  if (alpha < 1e-3 || fitted$whole > 0.99999) {
    noise_unsettled(
      data, order, "a GARCH(1,1) variance",
      paste0(
        "alpha ", signif(alpha, 2), ", beta ", signif(beta, 3),
        ": the variance does not depend on earlier values"
      )
    )
  }
  natural_of <- function(par) {
    terms <- split(par)
    c(
      terms$ar, terms$ma, terms$omega, terms$whole * terms$part,
      terms$whole * (1 - terms$part), if (free_df) terms$df
    )
  }
  natural <- natural_of(fit$par)
  covariance <- noise_delta(noise_hessian(minus, fit$par), natural_of, fit$par)
  e <- model_innovations_cpp(x, fitted$ar, fitted$ma)
  h <- model_garch_cpp(e, fitted$omega, alpha, beta)
  arma <- seq_len(p + q)
  rest <- setdiff(seq_along(natural), arma)
  scale <- c(size^2, 1, 1, if (free_df) 1)
  list(
    ar = fitted$ar,
    ma = fitted$ma,
    covariance = covariance[arma, arma, drop = FALSE],
    likelihood = -fit$value - length(x) * log(size),
    more = 3L + free_df,
    variance = list(
      kind = "garch",
      omega = fitted$omega * size^2,
      alpha = alpha,
      beta = beta
    ),
    df = if (free_df) fitted$df,
    spread = sqrt(h) * size,
    innovations = e * size,
    extra = noise_extra(
      c("omega", "alpha", "beta", if (free_df) "degrees of freedom"),
      natural[rest] * scale, sqrt(pmax(0, diag(covariance)[rest])) * scale
    )
  )
}

# The inverse Hessian at a minimum.
noise_hessian <- function(f, at) {
  steps <- pmax(1e-4 * abs(at), 1e-6)
  curve <- stats::optimHess(at, f, control = list(ndeps = steps))
  tryCatch(
    solve(curve),
    error = function(e) matrix(NA_real_, length(at), length(at))
  )
}

# The covariance of functions of estimates (delta method).
noise_delta <- function(covariance, f, at) {
  slopes <- vapply(
    seq_along(at),
    function(i) {
      step <- 1e-5 * max(1, abs(at[i]))
      move <- replace(numeric(length(at)), i, step)
      (f(at + move) - f(at - move)) / (2 * step)
    },
    at
  )
  slopes %*% covariance %*% t(slopes)
}
