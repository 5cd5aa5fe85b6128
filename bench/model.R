# Models against R's own functions: paths, memory, a fit.
#
#   Rscript bench/model.R
suppressMessages(library(vetusta))
options(digits = 4)
say <- function(...) cat(..., "\n", sep = "")
best <- function(work, n = 5) {
  min(vapply(
    seq_len(n),
    function(i) {
      gc()
      sum(system.time(work())[c("user.self", "sys.self")])
    },
    0
  ))
}

days <- seq(as.Date("1985-01-01"), as.Date("2024-12-31"), by = 1)
n <- length(days)
set.seed(1)
z <- rnorm(n)
e <- h <- numeric(n)
h[1] <- 36
for (t in seq_len(n)) {
  if (t > 1) h[t] <- 2 + 0.08 * e[t - 1]^2 + 0.86 * h[t - 1]
  e[t] <- sqrt(h[t]) * z[t]
}
noise <- as.numeric(stats::filter(e, 0.9, method = "recursive"))
year <- (as.POSIXlt(days)$yday) / 365.25
level <- data.frame(
  series = "lock",
  period = days,
  value = 230 + 42 * cos(2 * pi * year) + noise
)

# --- 1,000 paths of 730 days of season, ARMA and GARCH, against as many normal
# numbers
season <- model_season(level, harmonics = 2)
garch <- model_noise(season, c(1, 1), "garch")
plain <- model_noise(season, c(1, 0))
paths <- best(function() model_paths(garch, 1000, "730 days", seed = 1))
drawing <- best(function() rnorm(730000))
say(
  paste0(
    "1,000 paths of 730 days of season, ARMA(1,1) and GARCH(1,1), to ",
    "rnorm() of as many: "
  ),
  paths / drawing, " (", paths, " s)"
)
say(
  "the same of an ARMA(1,0): ",
  best(function() model_paths(plain, 1000, "730 days", seed = 1)) / drawing
)

# --- 100,000 paths, with one number kept per path
used <- function(count) {
  gc(reset = TRUE)
  model_paths(plain, count, "730 days", seed = 1, each = function(paths, time) {
    colSums(pmax(180 - paths, 0))
  })
  gc()[2, 6]
}
few <- used(2000)
many <- used(100000)
say(
  "100,000 paths of which a sum is kept: ", many, " MB at most, ", few,
  " MB for 2,000"
)

# --- a fit of forty years of days, against lm() and arima()
ours <- best(
  function() model_noise(model_season(level, harmonics = 2), c(1, 0)), 3
)
rs <- best(
  function() {
    part <- year
    t <- as.numeric(days)
    fit <- stats::lm(
      level$value ~
        t + cos(2 * pi * part) + sin(2 * pi * part) + cos(4 * pi * part) +
          sin(4 * pi * part)
    )
    stats::arima(
      stats::residuals(fit), c(1, 0, 0), include.mean = FALSE, method = "ML"
    )
  },
  3
)
say(
  "a fit of 40 years of days, to lm() and arima(): ", ours / rs, " (", ours,
  " s)"
)
