// Windows of time, not of a count of rows: for each row the values in (edge, time], in one pass.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <deque>
#include <vector>
#include "doubles.h"
using namespace Rcpp;

namespace {

// Count, mean and sum of squared deviations of some values, and how many of them are infinite. Two of them are joined by the formulas of
// Chan, Golub and LeVeque (Algorithms for computing the sample variance, 1983): nothing is ever taken away, so nothing cancels.
struct Sums {
  double count = 0, sum = 0, mean = 0, squares = 0;
  R_xlen_t odd = 0;
  template <int KIND>
  void add(double x) {
    if (std::isfinite(x)) {
      count += 1;
      sum += x;
      if (KIND == 2) {
        const double d = x - mean;
        mean += d / count;
        squares += d * (x - mean);
      }
    } else if (!std::isnan(x)) {
      ++odd;
    }
  }
};

template <int KIND>
double joined(const Sums& a, const Sums& b, int least) {
  const double n = a.count + b.count;
  if (n < least || a.odd + b.odd > 0 || n == 0) return NA_REAL;
  if (KIND == 0) return (a.sum + b.sum) / n;
  if (KIND == 1) return a.sum + b.sum;
  if (n < 2) return NA_REAL;
  const double d = b.mean - a.mean;
  const double squares = a.squares + b.squares + (a.count > 0 && b.count > 0 ? d * d * a.count * b.count / n : 0);
  return std::sqrt(squares / (n - 1));
}

// The window is two stretches that meet at `middle`: of the older one the sums from each row up to the middle are at hand, of the newer one the
// sums so far. Where the older one is used up, the newer one takes its place: each value is added twice, however the window moves.
template <int KIND>
void roll(const int* g, const double* t, const double* v, const double* edge, double* o, R_xlen_t n, int least) {
  std::vector<Sums> older;  // from row `middle - 1` back to where the stretch began
  R_xlen_t from = 0, middle = 0;
  Sums newer, none;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || g[i] != g[i - 1]) {
      from = middle = i;
      older.clear();
      newer = Sums();
    }
    newer.add<KIND>(v[i]);
    while (from <= i && t[from] <= edge[i]) ++from;
    if (from > middle) {
      older.clear();
      Sums back;
      for (R_xlen_t k = i; k >= from; --k) {
        back.add<KIND>(v[k]);
        older.push_back(back);
      }
      middle = i + 1;
      newer = Sums();
    }
    // the older stretch holds rows [from, middle)
    const Sums& first = from < middle ? older[middle - 1 - from] : none;
    o[i] = joined<KIND>(first, newer, least);
  }
}

}  // namespace

// `group` and `time` are ascending, and so is `edge` within a group. kind: 0 mean, 1 sum, 2 standard deviation.
// [[Rcpp::export]]
NumericVector roll_sums_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_, int kind, int least) {
  const Doubles time(time_), value(value_), edge(edge_);
  const R_xlen_t n = time.size();
  NumericVector out(no_init(n));
  auto run = kind == 0 ? roll<0> : kind == 1 ? roll<1> : roll<2>;
  run(group.begin(), time.begin(), value.begin(), edge.begin(), out.begin(), n, least);
  return out;
}

// The smallest or largest value in the window, by a queue of candidates.
// [[Rcpp::export]]
NumericVector roll_extremes_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_, bool largest, int least) {
  const Doubles time(time_), value(value_), edge(edge_);
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
    while (from < i && time[from] <= edge[i]) {
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
