// Windows of time, not of a count of rows: for each row the values in (time - length, time], in one pass.
#include <Rcpp.h>
#include <cmath>
#include <deque>
using namespace Rcpp;

// One pass adds the value that enters and takes away those that leave; every 65,536 rows the sum is taken anew, so that rounding
// does not pile up. `group` and `time` are ascending. kind: 0 mean, 1 sum, 2 standard deviation.
// [[Rcpp::export]]
NumericVector roll_sums_cpp(IntegerVector group, NumericVector time, NumericVector value, double length, int kind, int least) {
  const R_xlen_t n = time.size();
  NumericVector out(n);
  const double *t = time.begin(), *v = value.begin();
  const int* g = group.begin();
  double* o = out.begin();
  R_xlen_t from = 0;
  long double sum = 0, squares = 0;
  double origin = 0;  // squares are taken about a value of the series, so that they do not drown in its height
  R_xlen_t count = 0, odd = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || g[i] != g[i - 1]) {
      from = i;
      sum = squares = 0;
      count = odd = 0;
      origin = std::isfinite(v[i]) ? v[i] : 0;
    }
    if (std::isfinite(v[i])) {
      const long double d = v[i] - origin;
      sum += d;
      squares += d * d;
      ++count;
    } else if (!std::isnan(v[i])) {
      ++odd;
    }
    while (t[from] <= t[i] - length) {
      if (std::isfinite(v[from])) {
        const long double d = v[from] - origin;
        sum -= d;
        squares -= d * d;
        --count;
      } else if (!std::isnan(v[from])) {
        --odd;
      }
      ++from;
    }
    if ((i & 0xFFFF) == 0xFFFF) {
      sum = squares = 0;
      for (R_xlen_t k = from; k <= i; ++k) {
        if (!std::isfinite(v[k])) continue;
        const long double d = v[k] - origin;
        sum += d;
        squares += d * d;
      }
    }
    if (count < least || odd > 0) {
      o[i] = NA_REAL;
    } else if (kind == 0) {
      o[i] = static_cast<double>(origin + sum / count);
    } else if (kind == 1) {
      o[i] = static_cast<double>(static_cast<long double>(origin) * count + sum);
    } else {
      const long double left = squares - sum * sum / count;
      o[i] = count < 2 ? NA_REAL : std::sqrt(static_cast<double>((left > 0 ? left : 0) / (count - 1)));
    }
  }
  return out;
}

// The smallest or largest value in the window, by a queue of candidates.
// [[Rcpp::export]]
NumericVector roll_extremes_cpp(IntegerVector group, NumericVector time, NumericVector value, double length, bool largest, int least) {
  const R_xlen_t n = time.size();
  NumericVector out(n);
  std::deque<R_xlen_t> queue;
  R_xlen_t from = 0, count = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || group[i] != group[i - 1]) {
      queue.clear();
      from = i;
      count = 0;
    }
    while (from < i && time[from] <= time[i] - length) {
      if (!std::isnan(value[from])) --count;
      ++from;
    }
    while (!queue.empty() && queue.front() < from) queue.pop_front();
    if (!std::isnan(value[i])) {
      ++count;
      while (!queue.empty() && (largest ? value[queue.back()] <= value[i] : value[queue.back()] >= value[i])) queue.pop_back();
      queue.push_back(i);
    }
    out[i] = count < least || queue.empty() ? NA_REAL : value[queue.front()];
  }
  return out;
}
