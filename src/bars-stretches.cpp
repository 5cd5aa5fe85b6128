// Numbers that are constant, or change by the same linear map, over stretches of rows.
#include <Rcpp.h>

#include "doubles.h"
#include <algorithm>
using namespace Rcpp;

// x * factor + offset, with the factor and offset of each stretch; only the offset without x.
// [[Rcpp::export]]
NumericVector stretches_cpp(SEXP x_, NumericVector rows, NumericVector factor,
                            NumericVector offset) {
  double n = 0;
  for (R_xlen_t k = 0; k < rows.size(); ++k) n += rows[k];
  NumericVector out(no_init(static_cast<R_xlen_t>(n)));
  double* to = out.begin();
  if (Rf_isNull(x_)) {
    for (R_xlen_t k = 0; k < rows.size(); ++k) to = std::fill_n(to, (R_xlen_t)rows[k], offset[k]);
    return out;
  }
  const Doubles x(x_);
  if (x.size() != out.size()) stop("stretches of other rows");
  const double* from = x.begin();
  for (R_xlen_t k = 0; k < rows.size(); ++k) {
    const double a = factor[k], b = offset[k];
    const double* end = from + static_cast<R_xlen_t>(rows[k]);
    if (b == 0) {
      while (from < end) *to++ = *from++ * a;
    } else {
      while (from < end) *to++ = *from++ * a + b;
    }
  }
  return out;
}

// The number of sorted rows from `first` to `last` before each instant.
// [[Rcpp::export]]
NumericVector rows_before_cpp(SEXP time_, double first, double last, NumericVector at) {
  const Doubles time(time_);
  const double* from = time.begin() + static_cast<R_xlen_t>(first) - 1;
  const double* end = time.begin() + static_cast<R_xlen_t>(last);
  NumericVector out(at.size());
  for (R_xlen_t i = 0; i < at.size(); ++i) {
    out[i] = static_cast<double>(std::lower_bound(from, end, at[i]) - from);
  }
  return out;
}
