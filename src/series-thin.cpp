// Thins a line: of the points in one pixel column the first, last, lowest and highest are kept, so
// the line covers the same pixels. Source: Jugel, Jerzak, Hackenbroich and Markl, "M4: A
// Visualization-Oriented Time Series Data Aggregation", PVLDB 7(10), 2014.
#include <Rcpp.h>
#include <cmath>

// [[Rcpp::export]]
Rcpp::IntegerVector series_thin_cpp(Rcpp::NumericVector time, Rcpp::NumericVector value,
                                    double from, double to, int columns) {
  const R_xlen_t n = time.size();
  const double *t = time.begin();
  const double *v = value.begin();
  const double scale = to > from ? columns / (to - from) : 0;
  std::vector<int> kept;
  kept.reserve(static_cast<size_t>(4) * (columns + 1));
  R_xlen_t i = 0;
  while (i < n) {
    // a missing value ends the line and is kept as a break
    if (std::isnan(v[i])) {
      kept.push_back(static_cast<int>(i) + 1);
      while (i < n && std::isnan(v[i])) ++i;
      continue;
    }
    const R_xlen_t first = i;
    const double column = std::floor((t[i] - from) * scale);
    const double edge = scale > 0 ? from + (column + 1) / scale : INFINITY;
    R_xlen_t low = i;
    R_xlen_t high = i;
    double least = v[i];
    double most = v[i];
    for (++i; i < n && t[i] < edge; ++i) {
      const double x = v[i];
      if (x < least) {
        least = x;
        low = i;
      } else if (x > most) {
        most = x;
        high = i;
      } else if (std::isnan(x)) {
        break;
      }
    }
    const R_xlen_t last = i - 1;
    const R_xlen_t early = low < high ? low : high;
    const R_xlen_t late = low < high ? high : low;
    kept.push_back(static_cast<int>(first) + 1);
    if (early > first) kept.push_back(static_cast<int>(early) + 1);
    if (late > early && late > first) kept.push_back(static_cast<int>(late) + 1);
    if (last > late) kept.push_back(static_cast<int>(last) + 1);
  }
  return Rcpp::wrap(kept);
}
