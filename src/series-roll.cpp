// Windows of time, not of a count of rows: for each row the values in (edge, time], in one pass.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <deque>
#include <vector>
#include "doubles.h"
using namespace Rcpp;

namespace {

// Up to where values have left the window of a row: told for each, or where nothing is told so many
// seconds before its time.
class Edge {
 public:
  Edge(SEXP edge, double seconds, const Doubles& time)
      : told_(Rf_isNull(edge) ? nullptr : REAL_RO(edge)), seconds_(seconds), time_(time.begin()) {}
  double operator[](R_xlen_t i) const { return told_ ? told_[i] : time_[i] - seconds_; }
  bool told() const { return told_ != nullptr; }

 private:
  const double* told_;
  double seconds_;
  const double* time_;
};

// The same where it is so many seconds for all rows.
struct Seconds {
  const double* time;
  double seconds;
  double operator[](R_xlen_t i) const { return time[i] - seconds; }
};

// Count, mean and sum of squared deviations of some values, and how many of them are infinite. Two
// of them are joined by the formulas of Chan, Golub and LeVeque (Algorithms for computing the
// sample variance, 1983): nothing is ever taken away, so nothing cancels.
struct Sums {
  double sum = 0;
  int count = 0;
  int odd = 0;
  void add(double x) {
    if (std::isfinite(x)) {
      ++count;
      sum += x;
    } else if (!std::isnan(x)) {
      ++odd;
    }
  }
};

struct Moments : Sums {
  double mean = 0, squares = 0;
  void add(double x) {
    Sums::add(x);
    if (!std::isfinite(x)) return;
    const double d = x - mean;
    mean += d / count;
    squares += d * (x - mean);
  }
};

bool has_none(const Sums& a, const Sums& b, int least) {
  const int n = a.count + b.count;
  return n < least || n == 0 || a.odd + b.odd > 0;
}

struct Mean {
  using Part = Sums;
  static double of(const Sums& a, const Sums& b) { return (a.sum + b.sum) / (a.count + b.count); }
};

struct Sum {
  using Part = Sums;
  static double of(const Sums& a, const Sums& b) { return a.sum + b.sum; }
};

struct Deviation {
  using Part = Moments;
  static double of(const Moments& a, const Moments& b) {
    const double n = static_cast<double>(a.count) + b.count;
    if (n < 2) return NA_REAL;
    const double d = b.mean - a.mean;
    const double between = a.count > 0 && b.count > 0 ? d * d * a.count * b.count / n : 0;
    return std::sqrt((a.squares + b.squares + between) / (n - 1));
  }
};

// The window is two stretches that meet at `middle`: of the older one the sums from each row up to
// the middle are at hand, of the newer one the sums so far. Where the older one is used up, the
// newer one takes its place: each value is added twice, however the window moves.
template <class Kind>
void roll(const int* g, const double* t, const double* v, const Edge& edge, double* o, R_xlen_t n,
          int least) {
  using Part = typename Kind::Part;
  std::vector<Part> older;  // from row `middle - 1` back to where the stretch began
  R_xlen_t from = 0, middle = 0;
  Part newer, none;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || g[i] != g[i - 1]) {
      from = middle = i;
      older.clear();
      newer = Part();
    }
    newer.add(v[i]);
    while (from <= i && t[from] <= edge[i]) ++from;
    if (from > middle) {
      older.clear();
      Part back;
      for (R_xlen_t k = i; k >= from; --k) {
        back.add(v[k]);
        older.push_back(back);
      }
      middle = i + 1;
      newer = Part();
    }
    // the older stretch holds rows [from, middle)
    const Part& first = from < middle ? older[middle - 1 - from] : none;
    o[i] = has_none(first, newer, least) ? NA_REAL : Kind::of(first, newer);
  }
}

// The same sums where every value is finite: how many there are is told by the rows, and the sums
// back from the middle stand in one buffer that is written over.
// False at the first value that is none.
template <bool mean, class Ends>
bool roll_finite(const int* g, const double* t, const double* v, const Ends edge, double* out,
                 R_xlen_t n, int least) {
  std::vector<double> back;
  double* __restrict o = out;
  R_xlen_t from = 0, middle = 0;
  double newer = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || g[i] != g[i - 1]) {
      from = middle = i;
      newer = 0;
    }
    if (!std::isfinite(v[i])) return false;
    newer += v[i];
    const double end = edge[i];
    while (from <= i && t[from] <= end) ++from;
    if (from > middle) {
      const R_xlen_t size = i + 1 - from;
      if (back.size() < static_cast<size_t>(size)) back.resize(2 * size);
      double sum = 0;
      for (R_xlen_t k = 0; k < size; ++k) back[k] = sum += v[i - k];
      middle = i + 1;
      newer = 0;
    }
    const R_xlen_t count = i + 1 - from;
    if (count < least || count == 0) {
      o[i] = NA_REAL;
      continue;
    }
    const double sum = from < middle ? back[middle - 1 - from] + newer : newer;
    o[i] = mean ? sum / count : sum;
  }
  return true;
}

}  // namespace

// `group` and `time` are ascending, and so is `edge_` within a group. kind: 0 mean, 1 sum, 2
// standard deviation.
// [[Rcpp::export]]
NumericVector roll_sums_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_,
                            double seconds, int kind, int least) {
  const Doubles time(time_), value(value_);
  const R_xlen_t n = time.size();
  const Edge edge(edge_, seconds, time);
  NumericVector out(no_init(n));
  const double* v = value.begin();
  if (kind < 2) {
    const int* g = group.begin();
    const double* t = time.begin();
    double* o = out.begin();
    const Seconds alone = {t, seconds};
    const bool done =
        edge.told()
            ? (kind == 0 ? roll_finite<true, Edge> : roll_finite<false, Edge>)(g, t, v, edge, o, n,
                                                                               least)
            : (kind == 0 ? roll_finite<true, Seconds> : roll_finite<false, Seconds>)(g, t, v, alone,
                                                                                     o, n, least);
    if (done) return out;
  }
  auto run = kind == 0 ? roll<Mean> : kind == 1 ? roll<Sum> : roll<Deviation>;
  run(group.begin(), time.begin(), v, edge, out.begin(), n, least);
  return out;
}

// The smallest or largest value in the window, by a queue of candidates.
// [[Rcpp::export]]
NumericVector roll_extremes_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_,
                                double seconds, bool largest, int least) {
  const Doubles time(time_), value(value_);
  const Edge edge(edge_, seconds, time);
  const R_xlen_t n = time.size();
  NumericVector out(n);
  std::deque<R_xlen_t> queue;
  R_xlen_t from = 0, count = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    if (i == 0 || group[i] != group[i - 1]) {
      queue.clear();
      from = i;
      count = 0;
    }
    while (from < i && time[from] <= edge[i]) {
      if (!std::isnan(value[from])) --count;
      ++from;
    }
    while (!queue.empty() && queue.front() < from) queue.pop_front();
    if (!std::isnan(value[i])) {
      ++count;
      while (!queue.empty() &&
             (largest ? value[queue.back()] <= value[i] : value[queue.back()] >= value[i]))
        queue.pop_back();
      queue.push_back(i);
    }
    out[i] = count < least || queue.empty() ? NA_REAL : value[queue.front()];
  }
  return out;
}
