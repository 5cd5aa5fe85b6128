// Recursions of noise models: the innovations of an ARMA, and the likelihood of an ARMA with
// GARCH(1,1).
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
using namespace Rcpp;

// Innovations e[t] = x[t] - sum ar x[t-i] - sum ma e[t-j], with 0 before the first value.
static void innovations(const double *x, R_xlen_t n, const double *ar, int p, const double *ma,
                        int q, double *e) {
  const R_xlen_t most = std::min<R_xlen_t>(n, std::max(p, q));
  for (R_xlen_t t = 0; t < most; ++t) {
    double value = x[t];
    for (int i = 0; i < p && i < t; ++i) value -= ar[i] * x[t - 1 - i];
    for (int j = 0; j < q && j < t; ++j) value -= ma[j] * e[t - 1 - j];
    e[t] = value;
  }
  for (R_xlen_t t = most; t < n; ++t) {
    double value = x[t];
    for (int i = 0; i < p; ++i) value -= ar[i] * x[t - 1 - i];
    for (int j = 0; j < q; ++j) value -= ma[j] * e[t - 1 - j];
    e[t] = value;
  }
}

// [[Rcpp::export]]
NumericVector model_innovations_cpp(NumericVector x, NumericVector ar, NumericVector ma) {
  NumericVector e(x.size());
  innovations(x.begin(), x.size(), ar.begin(), ar.size(), ma.begin(), ma.size(), e.begin());
  return e;
}

// The sum of squared innovations after the first `skip`; 1e300 if they diverge.
// [[Rcpp::export]]
double model_squares_cpp(NumericVector x, NumericVector ar, NumericVector ma, int skip) {
  NumericVector e(x.size());
  innovations(x.begin(), x.size(), ar.begin(), ar.size(), ma.begin(), ma.size(), e.begin());
  double sum = 0;
  for (R_xlen_t t = skip; t < e.size(); ++t) {
    sum += e[t] * e[t];
    if (!(sum < 1e300)) return 1e300;
  }
  return sum;
}

// Variances h[t] = omega + alpha e[t-1]^2 + beta h[t-1]; the first one is the mean square.
// [[Rcpp::export]]
NumericVector model_garch_cpp(NumericVector e, double omega, double alpha, double beta) {
  R_xlen_t n = e.size();
  NumericVector h(n);
  double mean = 0;
  for (R_xlen_t t = 0; t < n; ++t) mean += e[t] * e[t];
  mean /= n;
  double last = mean;
  for (R_xlen_t t = 0; t < n; ++t) {
    if (t > 0) last = omega + alpha * e[t - 1] * e[t - 1] + beta * last;
    h[t] = last;
  }
  return h;
}

// The negative log-likelihood of an ARMA with GARCH innovations: normal, or Student's t with `df`
// degrees of freedom and variance 1.
// [[Rcpp::export]]
double model_garch_likelihood_cpp(NumericVector x, NumericVector ar, NumericVector ma, double omega,
                                  double alpha, double beta, double df) {
  R_xlen_t n = x.size();
  NumericVector e(n);
  innovations(x.begin(), n, ar.begin(), ar.size(), ma.begin(), ma.size(), e.begin());
  double mean = 0;
  for (R_xlen_t t = 0; t < n; ++t) mean += e[t] * e[t];
  mean /= n;
  if (!(mean < 1e300)) return 1e10;
  double h = mean, sum = 0;
  bool normal = !(df > 0);
  double constant = normal ? 0.5 * std::log(2 * M_PI)
                           : R::lgammafn(df / 2) - R::lgammafn((df + 1) / 2) +
                                 0.5 * std::log(M_PI * (df - 2));
  // take the logarithm before the product leaves the range of doubles
  double variances = 1, tails = 1, logs = 0, tail_logs = 0;
  for (R_xlen_t t = 0; t < n; ++t) {
    if (t > 0) h = omega + alpha * e[t - 1] * e[t - 1] + beta * h;
    if (!(h > 0)) return 1e10;
    const double z2 = e[t] * e[t] / h;
    if (!(variances > 1e-100 && variances < 1e100)) {
      logs += std::log(variances);
      variances = 1;
    }
    if (h > 1e-100 && h < 1e100)
      variances *= h;
    else
      logs += std::log(h);
    if (normal) {
      sum += 0.5 * z2;
    } else {
      if (tails > 1e100) {
        tail_logs += std::log(tails);
        tails = 1;
      }
      const double tail = 1 + z2 / (df - 2);
      if (tail < 1e100)
        tails *= tail;
      else
        tail_logs += std::log(tail);
    }
  }
  sum += 0.5 * (logs + std::log(variances)) + 0.5 * (df + 1) * (tail_logs + std::log(tails));
  sum += n * constant;
  return sum < 1e10 ? sum : 1e10;
}
