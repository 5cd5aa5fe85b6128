// What is wrong with a bar, one code a row: 0 nothing, else the position in bars_faults()'s list of
// faults.
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

// How many rows stand after a later one of their own group; groups are numbered from 1.
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

// Whether rows stand in order of group and, within it, of time; a missing time is never in order.
// Without groups, here and in the next, all rows are of one.
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

// Whether two rows, one behind the other, are of one group and time, and are known from different
// instants.
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
