// Releases of a series: the rows that count at an instant, and summaries of rows by group.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <vector>
using namespace Rcpp;

namespace {

// Rows are ordered by time and then by release. `first` has the first row of each time, with one
// extra entry at the end (all from 1).
struct Releases {
  const int* first;
  const double* known;
  const int* usable;
  // the row of time `i` that counts at `at`, 0 for none; with `strict` only earlier releases count
  int row(int i, double at, bool strict) const {
    for (int r = first[i] - 1; r >= first[i - 1]; --r) {
      const double k = known[r - 1];
      if (strict ? k < at : k <= at) return r;
    }
    return 0;
  }
  bool counts(int i, double at) const {
    const int r = row(i, at, false);
    return r > 0 && usable[r - 1];
  }
};

}  // namespace

// The rows that count at the instant of each question, within its range of times: list(row,
// question). Unusable rows are left out.
// [[Rcpp::export]]
List release_rows_cpp(IntegerVector first, NumericVector known, LogicalVector usable,
                      IntegerVector lo, IntegerVector hi, NumericVector at, bool strict) {
  const Releases all{first.begin(), known.begin(), usable.begin()};
  std::vector<int> row, question;
  const R_xlen_t n = lo.size();
  for (R_xlen_t q = 0; q < n; ++q) {
    if (q % 1000 == 0) checkUserInterrupt();
    for (int i = lo[q]; i <= hi[q]; ++i) {
      const int r = all.row(i, at[q], strict);
      if (r == 0 || !usable[r - 1]) continue;
      row.push_back(r);
      question.push_back(static_cast<int>(q + 1));
    }
  }
  return List::create(_["row"] = wrap(row), _["question"] = wrap(question));
}

// For each time, the `count`-th earlier and later time with a usable row at the instant, or the
// furthest one; 0 for none. `sooner` is the earliest first release of all times up to each one,
// `later` of all times from each one on.
// [[Rcpp::export]]
List release_neighbours_cpp(IntegerVector first, NumericVector known, LogicalVector usable,
                            NumericVector sooner, NumericVector later, IntegerVector index,
                            NumericVector at, int count) {
  const Releases all{first.begin(), known.begin(), usable.begin()};
  const int m = static_cast<int>(first.size()) - 1;
  const R_xlen_t n = index.size();
  IntegerVector before(n), after(n);
  for (R_xlen_t q = 0; q < n; ++q) {
    if (q % 1000 == 0) checkUserInterrupt();
    int found = 0, left = count;
    for (int i = index[q] - 1; i >= 1 && left > 0 && sooner[i - 1] <= at[q]; --i) {
      if (!all.counts(i, at[q])) continue;
      found = i;
      --left;
    }
    before[q] = found;
    found = 0;
    left = count;
    for (int i = index[q] + 1; i <= m && left > 0 && later[i - 1] <= at[q]; ++i) {
      if (!all.counts(i, at[q])) continue;
      found = i;
      --left;
    }
    after[q] = found;
  }
  return List::create(_["before"] = before, _["after"] = after);
}

// The running maximum within each run of equal `by`.
// [[Rcpp::export]]
NumericVector greatest_so_far_cpp(NumericVector by, NumericVector value) {
  const R_xlen_t n = value.size();
  NumericVector out(n);
  for (R_xlen_t i = 0; i < n; ++i) {
    const bool goes_on = i > 0 && by[i] == by[i - 1];
    out[i] = goes_on ? std::max(out[i - 1], value[i]) : value[i];
  }
  return out;
}

namespace {

// As R's mean: a second pass removes the rounding error.
double mean_of(const std::vector<double>& v) {
  long double sum = 0;
  for (double x : v) sum += x;
  const long double mean = sum / v.size();
  if (!std::isfinite(static_cast<double>(mean))) return static_cast<double>(mean);
  long double rest = 0;
  for (double x : v) rest += x - mean;
  return static_cast<double>(mean + rest / v.size());
}

double summary_of(std::vector<double>& v, const std::vector<double>& w, int rule) {
  switch (rule) {
    case 0: {  // mean, by weight where weights differ
      bool alike = true;
      for (double x : w) alike = alike && x == w[0];
      if (alike) return mean_of(v);
      long double sum = 0, weight = 0;
      for (size_t i = 0; i < v.size(); ++i) {
        sum += v[i] * w[i];
        weight += w[i];
      }
      return static_cast<double>(sum) / static_cast<double>(weight);
    }
    case 1: {
      long double sum = 0;
      for (double x : v) sum += x;
      return static_cast<double>(sum);
    }
    case 2:
      return v.front();
    case 3:
      return v.back();
    case 4:
      return *std::min_element(v.begin(), v.end());
    case 5:
      return *std::max_element(v.begin(), v.end());
    default: {  // median
      const size_t half = v.size() / 2;
      std::sort(v.begin(), v.end());
      if (v.size() % 2) return v[half];
      return mean_of({v[half - 1], v[half]});
    }
  }
}

}  // namespace

// One row per group: the summary of its values by `rule` (mean, sum, first, last, min, max, median,
// or end: the value of the last row that `ends`), the number of periods with a value, the latest
// `through` and `known`, and whether a row is provisional.
// [[Rcpp::export]]
List group_summary_cpp(IntegerVector group, NumericVector value, NumericVector weight,
                       NumericVector period, LogicalVector ends, LogicalVector provisional,
                       NumericVector through, NumericVector known, int rule) {
  const R_xlen_t n = group.size();
  R_xlen_t m = 0;
  for (R_xlen_t i = 0; i < n; ++i) m += i == 0 || group[i] != group[i - 1];
  IntegerVector at(m), parts(m);
  NumericVector out(m), latest(m), counts(m);
  LogicalVector open(m);
  std::vector<double> v, w, p;
  R_xlen_t g = 0;
  for (R_xlen_t i = 0; i < n; ++g) {
    if (g % 1000 == 0) checkUserInterrupt();
    v.clear();
    w.clear();
    p.clear();
    double t = R_NegInf, k = R_NegInf, last = NA_REAL;
    bool any = false;
    at[g] = static_cast<int>(i + 1);
    const int own = group[i];
    for (; i < n && group[i] == own; ++i) {
      t = std::max(t, through[i]);
      k = std::max(k, known[i]);
      any = any || provisional[i] == TRUE;
      if (rule == 7 && ends[i] == TRUE) last = value[i];
      if (std::isnan(value[i])) continue;
      v.push_back(value[i]);
      w.push_back(weight[i]);
      p.push_back(period[i]);
    }
    std::sort(p.begin(), p.end());
    parts[g] = static_cast<int>(std::unique(p.begin(), p.end()) - p.begin());
    latest[g] = t;
    counts[g] = k;
    open[g] = any;
    out[g] = rule == 7 ? last : v.empty() ? NA_REAL : summary_of(v, w, rule);
  }
  return List::create(_["at"] = at, _["value"] = out, _["parts"] = parts, _["through"] = latest,
                      _["known"] = counts, _["provisional"] = open);
}
