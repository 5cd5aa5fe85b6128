// Compares expected times with present times: both ascending, one pass.
#include <Rcpp.h>
#include <cmath>
#include "doubles.h"
using namespace Rcpp;

// Whether each expected time is present.
// [[Rcpp::export]]
LogicalVector times_present_cpp(SEXP expected_, SEXP present_) {
  const Doubles expected(expected_), present(present_);
  const R_xlen_t n = expected.size(), m = present.size();
  LogicalVector found(n);
  R_xlen_t j = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    while (j < m && !(present[j] >= expected[i])) ++j;
    found[i] = j < m && present[j] == expected[i];
  }
  return found;
}

// Runs of missing times with one reason: first and last position (from 1) and the code of the
// reason.
// [[Rcpp::export]]
List missing_runs_cpp(LogicalVector present, IntegerVector reason) {
  std::vector<int> first, last, code;
  const R_xlen_t n = present.size();
  for (R_xlen_t i = 0; i < n; ++i) {
    if (present[i]) continue;
    const bool goes_on = !last.empty() && last.back() == i && code.back() == reason[i];
    if (goes_on) {
      last.back() = static_cast<int>(i + 1);
    } else {
      first.push_back(static_cast<int>(i + 1));
      last.push_back(static_cast<int>(i + 1));
      code.push_back(reason[i]);
    }
  }
  return List::create(_["first"] = wrap(first), _["last"] = wrap(last), _["reason"] = wrap(code));
}
