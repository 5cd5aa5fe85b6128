// Aligns series without look-ahead: at each grid time the latest value known by then.
#include <Rcpp.h>
#include <cmath>
#include <map>
#include "doubles.h"
using namespace Rcpp;

// For each grid time the position (from 1) of the row that counts, 0 for none. `known` is
// ascending. Of the rows known by then, the one with the latest period counts; of several rows of
// that period, the one known last.
// [[Rcpp::export]]
IntegerVector align_cpp(SEXP grid_, SEXP known_, SEXP own_) {
  const Doubles grid(grid_), known(known_), own(own_);
  const R_xlen_t n = grid.size(), m = known.size();
  IntegerVector out(n);
  R_xlen_t j = 0, best = -1;
  const double* g = grid.begin();
  const double* k = known.begin();
  const double* w = own.begin();
  int* o = out.begin();
  for (R_xlen_t i = 0; i < n; ++i) {
    while (j < m && k[j] <= g[i]) {
      if (best < 0 || w[j] >= w[best]) best = j;
      ++j;
    }
    o[i] = static_cast<int>(best + 1);
  }
  return out;
}

// As above, with deletions: from a deletion on, its period has no value until a later row of the
// period.
// [[Rcpp::export]]
IntegerVector align_deleted_cpp(SEXP grid_, SEXP known_, SEXP own_, LogicalVector deleted) {
  const Doubles grid(grid_), known(known_), own(own_);
  const R_xlen_t n = grid.size(), m = known.size();
  IntegerVector out(n);
  std::map<double, R_xlen_t> live;
  R_xlen_t j = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    while (j < m && known[j] <= grid[i]) {
      if (deleted[j])
        live.erase(own[j]);
      else
        live[own[j]] = j;
      ++j;
    }
    out[i] = live.empty() ? 0 : static_cast<int>(live.rbegin()->second + 1);
  }
  return out;
}

// Sums and counts of the values that became known after the previous grid time and up to each one.
// [[Rcpp::export]]
List align_between_cpp(SEXP grid_, SEXP known_, SEXP value_) {
  const Doubles grid(grid_), known(known_), value(value_);
  const R_xlen_t n = grid.size(), m = known.size();
  NumericVector sum(n);
  IntegerVector count(n);
  R_xlen_t j = 0;
  if (n > 0)
    while (j < m && known[j] <= grid[0])
      ++j;  // what came before the grid begins belongs to no step of it
  for (R_xlen_t i = 1; i < n; ++i) {
    long double total = 0;
    while (j < m && known[j] <= grid[i]) {
      if (!std::isnan(value[j])) {
        total += value[j];
        ++count[i];
      }
      ++j;
    }
    sum[i] = static_cast<double>(total);
  }
  return List::create(_["sum"] = sum, _["count"] = count);
}

// Position (from 1) of each time among ascending times, 0 if it is absent; both are ascending.
// [[Rcpp::export]]
IntegerVector times_match_cpp(SEXP grid_, SEXP time_) {
  const Doubles grid(grid_), time(time_);
  const R_xlen_t n = grid.size(), m = time.size();
  IntegerVector out(n);
  R_xlen_t j = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    while (j < m && time[j] < grid[i]) ++j;
    // of two rows with one time the later one counts
    while (j + 1 < m && time[j + 1] == grid[i]) ++j;
    if (j < m && time[j] == grid[i]) out[i] = static_cast<int>(j + 1);
  }
  return out;
}
