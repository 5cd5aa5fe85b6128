// Fills holes of a grid: forward, backward, and on a straight line.
#include <Rcpp.h>
#include <cmath>
using namespace Rcpp;

// The positions from which holes are filled: the last present value before (`forward`) or the next
// one after, 0 for none. Runs longer than `most` stay open. Values are not carried across the edge
// of a block.
// [[Rcpp::export]]
NumericVector carry_cpp(NumericVector value, IntegerVector block, double most, bool forward) {
  const R_xlen_t n = value.size();
  const bool blocks = block.size() == n;
  const double* v = value.begin();
  const bool limited = std::isfinite(most);
  if (!blocks && !limited) {  // the plain case in one pass
    NumericVector out(no_init(n));
    double* o = out.begin();
    double last = NA_REAL;
    if (forward) {
      for (R_xlen_t i = 0; i < n; ++i) o[i] = last = std::isnan(v[i]) ? last : v[i];
    } else {
      for (R_xlen_t i = n - 1; i >= 0; --i) o[i] = last = std::isnan(v[i]) ? last : v[i];
    }
    return out;
  }
  NumericVector out = clone(value);
  const int* b = block.begin();
  double* o = out.begin();
  const R_xlen_t limit = limited ? static_cast<R_xlen_t>(most) : 0;
  if (forward) {
    R_xlen_t known = -1;
    for (R_xlen_t i = 0; i < n; ++i) {
      if (!std::isnan(v[i])) {
        known = i;
        continue;
      }
      if (known < 0 || (blocks && b[known] != b[i])) continue;
      if (limited) {  // the whole run is measured first
        R_xlen_t end = i;
        while (end < n && std::isnan(v[end]) && (!blocks || b[end] == b[i])) ++end;
        if (end - i <= limit)
          for (R_xlen_t k = i; k < end; ++k) o[k] = v[known];
        i = end - 1;
      } else {
        o[i] = v[known];
      }
    }
  } else {
    R_xlen_t known = -1;
    for (R_xlen_t i = n - 1; i >= 0; --i) {
      if (!std::isnan(v[i])) {
        known = i;
        continue;
      }
      if (known < 0 || (blocks && b[known] != b[i])) continue;
      if (limited) {
        R_xlen_t end = i;
        while (end >= 0 && std::isnan(v[end]) && (!blocks || b[end] == b[i])) --end;
        if (i - end <= limit)
          for (R_xlen_t k = i; k > end; --k) o[k] = v[known];
        i = end + 1;
      } else {
        o[i] = v[known];
      }
    }
  }
  return out;
}

// The length of the run of holes at each position, 0 at a value. Runs end at the edge of a block.
// `inner` is true if the same block has a value on both sides.
// [[Rcpp::export]]
List hole_runs_cpp(NumericVector value, IntegerVector block) {
  const R_xlen_t n = value.size();
  const bool blocks = block.size() == n;
  IntegerVector length(n);
  LogicalVector inner(n);
  for (R_xlen_t i = 0; i < n;) {
    if (!std::isnan(value[i])) {
      ++i;
      continue;
    }
    R_xlen_t end = i;
    while (end < n && std::isnan(value[end]) && (!blocks || block[end] == block[i])) ++end;
    const bool left = i > 0 && (!blocks || block[i - 1] == block[i]);
    const bool right = end < n && (!blocks || block[end] == block[i]);
    for (R_xlen_t k = i; k < end; ++k) {
      length[k] = static_cast<int>(end - i);
      inner[k] = left && right;
    }
    i = end;
  }
  return List::create(_["length"] = length, _["inner"] = inner);
}

// Linear interpolation in time between the values on both sides; holes without two sides stay open.
// [[Rcpp::export]]
NumericVector linear_cpp(NumericVector value, NumericVector time, IntegerVector block) {
  const R_xlen_t n = value.size();
  const bool blocks = block.size() == n;
  NumericVector out = clone(value);
  R_xlen_t known = -1;
  for (R_xlen_t i = 0; i < n; ++i) {
    if (std::isnan(value[i])) continue;
    if (known >= 0 && i - known > 1 && (!blocks || block[known] == block[i])) {
      const double slope = (value[i] - value[known]) / (time[i] - time[known]);
      for (R_xlen_t k = known + 1; k < i; ++k)
        out[k] = value[known] + slope * (time[k] - time[known]);
    }
    known = i;
  }
  return out;
}

// For each hole, the latest instant over the rows in the hole and the values on its sides (`before`
// and `after` say whether those count). Other positions stay missing.
// [[Rcpp::export]]
List hole_latest_cpp(NumericVector value, IntegerVector block, NumericVector through,
                     NumericVector known, bool before, bool after) {
  const R_xlen_t n = value.size();
  const bool blocks = block.size() == n;
  NumericVector latest_through(n, NA_REAL), latest_known(n, NA_REAL);
  R_xlen_t last = -1;   // the value before
  R_xlen_t next = 0;    // the value after, found once and kept
  for (R_xlen_t i = 0; i < n;) {
    if (!std::isnan(value[i])) {
      if (std::isfinite(value[i])) last = i;
      ++i;
      continue;
    }
    double t = R_NegInf, k = R_NegInf;
    R_xlen_t end = i;
    for (; end < n && std::isnan(value[end]) && (!blocks || block[end] == block[i]); ++end) {
      if (through[end] > t) t = through[end];
      if (known[end] > k) k = known[end];
    }
    if (before && last >= 0 && (!blocks || block[last] == block[i])) {
      if (through[last] > t) t = through[last];
      if (known[last] > k) k = known[last];
    }
    if (after) {
      if (next < end) next = end;
      while (next < n && !std::isfinite(value[next])) ++next;
      if (next < n && (!blocks || block[next] == block[i])) {
        if (through[next] > t) t = through[next];
        if (known[next] > k) k = known[next];
      }
    }
    for (; i < end; ++i) {
      latest_through[i] = t;
      latest_known[i] = k;
    }
  }
  return List::create(_["through"] = latest_through, _["known"] = latest_known);
}

// The smallest positive step between consecutive times of one series; `group` numbers the series.
// [[Rcpp::export]]
double smallest_step_cpp(NumericVector time, IntegerVector group) {
  const R_xlen_t n = time.size();
  double least = R_PosInf;
  for (R_xlen_t i = 1; i < n; ++i) {
    const double step = time[i] - time[i - 1];
    if (step > 0 && step < least && group[i] == group[i - 1]) least = step;
  }
  return std::isfinite(least) ? least : NA_REAL;
}
