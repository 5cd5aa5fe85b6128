// Windows of time, not of a count of rows: for each row the values in (time - length, time], in one pass.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <deque>
#include "doubles.h"
using namespace Rcpp;

// One pass adds the value that enters and takes away those that leave; after every few windows the sums are taken anew, so that
// rounding does not pile up. Sums are taken about a value of the series, so that they do not drown in its height. `group` and `time` are
// ascending. kind: 0 mean, 1 sum, 2 standard deviation.
template <bool CLEAN, int KIND>
static void roll_sums(const int* g, const double* t, const double* v, double* o, R_xlen_t n, double length, int least) {
  R_xlen_t from = 0, count = 0, odd = 0, anew = 0;
  double sum = 0, squares = 0, origin = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const double x = v[i];
    if (i == 0 || g[i] != g[i - 1]) {
      from = i;
      sum = squares = 0;
      count = odd = 0;
      anew = i + 4096;
      origin = std::isfinite(x) ? x : 0;
    }
    if (CLEAN || std::isfinite(x)) {
      const double d = x - origin;
      sum += d;
      if (KIND == 2) squares += d * d;
      ++count;
    } else if (!std::isnan(x)) {
      ++odd;
    }
    const double edge = t[i] - length;
    while (t[from] <= edge) {
      const double y = v[from++];
      if (CLEAN || std::isfinite(y)) {
        const double d = y - origin;
        sum -= d;
        if (KIND == 2) squares -= d * d;
        --count;
      } else if (!std::isnan(y)) {
        --odd;
      }
    }
    if (i >= anew) {
      if (count > 0) {  // about the middle of this window from here on
        origin = origin + sum / count;
        sum = squares = 0;
        for (R_xlen_t k = from; k <= i; ++k) {
          if (!CLEAN && !std::isfinite(v[k])) continue;
          const double d = v[k] - origin;
          sum += d;
          squares += d * d;
        }
      }
      anew = i + std::max<R_xlen_t>(4096, 4 * (i - from));
    }
    if (count < least || odd > 0) {
      o[i] = NA_REAL;
    } else if (KIND == 0) {
      o[i] = origin + sum / count;
    } else if (KIND == 1) {
      o[i] = origin * count + sum;
    } else {
      const double left = squares - sum * sum / count;
      o[i] = count < 2 ? NA_REAL : std::sqrt((left > 0 ? left : 0) / (count - 1));
    }
  }
}

template <bool CLEAN>
static void roll_kind(const int* g, const double* t, const double* v, double* o, R_xlen_t n, double length, int kind, int least) {
  if (kind == 0) roll_sums<CLEAN, 0>(g, t, v, o, n, length, least);
  else if (kind == 1) roll_sums<CLEAN, 1>(g, t, v, o, n, length, least);
  else roll_sums<CLEAN, 2>(g, t, v, o, n, length, least);
}

// [[Rcpp::export]]
NumericVector roll_sums_cpp(IntegerVector group, SEXP time_, SEXP value_, double length, int kind, int least) {
  const Doubles time(time_), value(value_);
  const R_xlen_t n = time.size();
  NumericVector out(no_init(n));
  const double* v = value.begin();
  bool clean = true;
  for (R_xlen_t i = 0; i < n && clean; ++i) clean = std::isfinite(v[i]);
  if (clean) roll_kind<true>(group.begin(), time.begin(), v, out.begin(), n, length, kind, least);
  else roll_kind<false>(group.begin(), time.begin(), v, out.begin(), n, length, kind, least);
  return out;
}

// The smallest or largest value in the window, by a queue of candidates.
// [[Rcpp::export]]
NumericVector roll_extremes_cpp(IntegerVector group, SEXP time_, SEXP value_, double length, bool largest, int least) {
  const Doubles time(time_), value(value_);
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
