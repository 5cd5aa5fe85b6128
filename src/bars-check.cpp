// Checks each bar and returns a code per row: 0 for none, else the position in the list of
// bars_faults().
#include <Rcpp.h>

#include "doubles.h"
#include <cmath>
#include <vector>
using namespace Rcpp;

// [[Rcpp::export]]
IntegerVector bar_faults_cpp(NumericVector open, NumericVector high, NumericVector low,
                             NumericVector close, NumericVector volume, NumericVector time) {
  const R_xlen_t n = close.size();
  IntegerVector fault(n);
  for (R_xlen_t i = 0; i < n; ++i) {
    const double o = open[i], h = high[i], l = low[i], c = close[i], v = volume[i];
    if (!std::isfinite(time[i])) {
      fault[i] = 1;
    } else if (h < l) {
      fault[i] = 2;
    } else if (o > h || o < l || c > h || c < l) {
      fault[i] = 3;  // comparisons with NaN are false: what a source does not give cannot be wrong
    } else if (v < 0) {
      fault[i] = 4;
    } else if (std::isinf(o) || std::isinf(h) || std::isinf(l) || std::isinf(c) || std::isinf(v)) {
      fault[i] = 5;
    } else if (std::isnan(c)) {
      fault[i] = 6;
    }
  }
  return fault;
}

// The number of rows with a time before an earlier row of the same group. Groups are numbered from
// 1.
// [[Rcpp::export]]
double late_rows_cpp(IntegerVector group, NumericVector time) {
  std::vector<double> newest;
  double late = 0;
  for (R_xlen_t i = 0; i < time.size(); ++i) {
    const size_t at = static_cast<size_t>(group[i]);
    if (at >= newest.size()) newest.resize(at + 1, R_NegInf);
    if (time[i] < newest[at]) ++late;
    if (time[i] > newest[at]) newest[at] = time[i];
  }
  return late;
}

// Whether rows are ordered by group and then by time. A missing time is never in order. Here and in
// the next function, an empty `group` means a single group.
// [[Rcpp::export]]
bool is_ordered_cpp(IntegerVector group, SEXP time_) {
  const Doubles time(time_);
  const R_xlen_t n = time.size();
  const bool lone = group.size() == 0;
  if (n > 0 && std::isnan(time[0])) return n == 1;
  for (R_xlen_t i = 1; i < n; ++i) {
    if (!lone && group[i] < group[i - 1]) return false;
    if ((lone || group[i] == group[i - 1]) && !(time[i] >= time[i - 1])) return false;
  }
  return true;
}

// Whether two consecutive rows have the same group and time but different `known`.
// [[Rcpp::export]]
bool has_vintages_cpp(IntegerVector group, SEXP time_, SEXP known_) {
  const Doubles time(time_), known(known_);
  const bool lone = group.size() == 0;
  for (R_xlen_t i = 1; i < time.size(); ++i) {
    if ((lone || group[i] == group[i - 1]) && time[i] == time[i - 1] &&
        (known[i] < known[i - 1] || known[i] > known[i - 1]))
      return true;
  }
  return false;
}
