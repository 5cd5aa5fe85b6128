// Numbers in the shortest text that reads back the same: 15, 16 or 17 digits, and no exponent where
// people write none.
#include <Rcpp.h>
#include <cmath>
#include <cstdio>
#include <cstdlib>
using namespace Rcpp;

// [[Rcpp::export]]
CharacterVector format_exact_cpp(NumericVector x) {
  const R_xlen_t n = x.size();
  CharacterVector out(n);
  char text[40];
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const double v = x[i];
    if (std::isnan(v)) {
      out[i] = NA_STRING;
    } else if (std::isinf(v)) {
      out[i] = v > 0 ? "Inf" : "-Inf";
    } else if (v == std::floor(v) && std::fabs(v) < 1e15) {
      std::snprintf(text, sizeof text, "%.0f", v == 0 ? 0.0 : v);
      out[i] = text;
    } else {
      for (int digits = 15; digits <= 17; ++digits) {
        std::snprintf(text, sizeof text, "%.*g", digits, v);
        if (std::strtod(text, nullptr) == v) break;
      }
      out[i] = text;
    }
  }
  return out;
}
