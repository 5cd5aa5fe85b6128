// A frame is a period of open time: [open, close). Frames are ascending and do not overlap.
#include <Rcpp.h>
#include <cmath>
using namespace Rcpp;

// The starts of all bars of `step` seconds that begin within the frames, counted from each opening.
// [[Rcpp::export]]
NumericVector frames_times_cpp(NumericVector open, NumericVector close, double step) {
  const R_xlen_t frames = open.size();
  double total = 0;
  for (R_xlen_t f = 0; f < frames; ++f)
    total += std::max(0.0, std::ceil((close[f] - open[f]) / step));
  NumericVector times(static_cast<R_xlen_t>(total));
  R_xlen_t at = 0;
  for (R_xlen_t f = 0; f < frames; ++f) {
    const R_xlen_t count =
        static_cast<R_xlen_t>(std::max(0.0, std::ceil((close[f] - open[f]) / step)));
    for (R_xlen_t i = 0; i < count; ++i) times[at++] = open[f] + step * i;
  }
  return times;
}

// The number (from 1) of the frame that contains each time, 0 for none. Times may be in any order;
// ascending times are fastest.
// [[Rcpp::export]]
IntegerVector frames_find_cpp(NumericVector time, NumericVector open, NumericVector close) {
  const R_xlen_t n = time.size(), frames = open.size();
  IntegerVector found(n);
  R_xlen_t f = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    const double t = time[i];
    if (std::isnan(t) || frames == 0) continue;
    if (f >= frames || t < open[f] || (f + 1 < frames && t >= open[f + 1])) {
      f = std::upper_bound(open.begin(), open.end(), t) - open.begin() - 1;
      if (f < 0) {
        f = 0;
        continue;
      }
    }
    if (t >= open[f] && t < close[f]) found[i] = static_cast<int>(f + 1);
  }
  return found;
}
