// Time windows: for each row the values in (edge, time], in one pass.
#include <Rcpp.h>
#include <algorithm>
#include <cfloat>
#include <cmath>
#include <deque>
#include <vector>
#include "doubles.h"
using namespace Rcpp;

namespace {

// The left edge of each window: given per row, or a number of seconds before its time.
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

// The same number of seconds for all rows.
struct Seconds {
  const double* time;
  double seconds;
  double operator[](R_xlen_t i) const { return time[i] - seconds; }
};

// Count, mean and sum of squared deviations, and the number of infinite values. Two of these are
// merged by the formulas of Chan, Golub and LeVeque (Algorithms for computing the sample variance,
// 1983). Nothing is subtracted, so nothing cancels.
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

// A window has two parts that meet at `middle`. The older part has sums from each row up to the
// middle, the newer part has running sums. When the older part is used up, the newer part replaces
// it: each value is added twice, however the window moves.
template <class Kind>
void roll(R_xlen_t begin, R_xlen_t end, const double* t, const double* v, const Edge& edge,
          double* o, int least) {
  using Part = typename Kind::Part;
  std::vector<Part> older;  // from row `middle - 1` back to where the stretch began
  R_xlen_t from = begin, middle = begin;
  Part newer, none;
  for (R_xlen_t i = begin; i < end; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
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
    // the older part has rows [from, middle)
    const Part& first = from < middle ? older[middle - 1 - from] : none;
    o[i] = has_none(first, newer, least) ? NA_REAL : Kind::of(first, newer);
  }
}

// The rows of one series at a time. Without numbers all rows belong to one series.
template <class Work>
bool by_group(const IntegerVector& group, R_xlen_t n, Work work) {
  const int* g = group.begin();
  for (R_xlen_t i = 0, end; i < n; i = end) {
    end = n;
    if (group.size() > 0) {
      for (end = i + 1; end < n && g[end] == g[i];) ++end;
    }
    if (!work(i, end)) return false;
  }
  return true;
}

// The same sums for a series with finite values only: the counts follow from the rows, and the sums
// back from the middle are in one reusable buffer. `i` is the next row, `from` the first row of its
// window, `middle` the first row of the newer part.
template <class Ends>
struct Rolling {
  R_xlen_t end;
  const double *t, *v;
  Ends edge;
  double* out;
  R_xlen_t least, i, from, middle;
};

// Handles rows until the window has left the older part. False at a value that is not finite.
template <bool mean, class Ends>
bool roll_stretch(Rolling<Ends>& r, const double* back, double& newer) {
  const double *t = r.t, *v = r.v;
  double* __restrict out = r.out;
  const Ends edge = r.edge;
  const R_xlen_t end = r.end, middle = r.middle, least = r.least;
  R_xlen_t i = r.i, from = r.from;
  double sum = newer;
  bool finite = true;
  for (; i < end; ++i) {
    if (!(std::fabs(v[i]) <= DBL_MAX)) {
      finite = false;
      break;
    }
    sum += v[i];
    const double left = edge[i];
    while (from <= i && t[from] <= left) ++from;
    if (from > middle) break;
    const R_xlen_t count = i + 1 - from;
    const double all = from < middle ? back[middle - 1 - from] + sum : sum;
    out[i] = count < least ? NA_REAL : mean ? all / static_cast<double>(count) : all;
  }
  r.i = i;
  r.from = from;
  newer = sum;
  return finite;
}

template <bool mean, class Ends>
bool roll_finite(Rolling<Ends> r, std::vector<double>& back) {
  double newer = 0;
  R_xlen_t looked = r.i;
  while (r.i < r.end) {
    if (r.i - looked > 0xFFFFF) {
      looked = r.i;
      checkUserInterrupt();
    }
    if (!roll_stretch<mean>(r, back.data(), newer)) return false;
    if (r.i >= r.end) break;
    // the older part is used up: the newer part, up to this row, replaces it
    const R_xlen_t size = r.i + 1 - r.from;
    if (back.size() < static_cast<size_t>(size)) back.resize(2 * size);
    double sum = 0;
    for (R_xlen_t k = 0; k < size; ++k) back[k] = sum += r.v[r.i - k];
    const bool none = size < r.least || size == 0;
    r.out[r.i] = none ? NA_REAL : mean ? sum / static_cast<double>(size) : sum;
    r.middle = ++r.i;
    newer = 0;
  }
  return true;
}

template <class Ends>
bool roll_all_finite(const IntegerVector& group, R_xlen_t n, const double* t, const double* v,
                     const Ends& edge, double* o, bool mean, int least) {
  std::vector<double> back;
  return by_group(group, n, [&](R_xlen_t begin, R_xlen_t end) {
    const Rolling<Ends> r = {end, t, v, edge, o, least, begin, begin, begin};
    return mean ? roll_finite<true>(r, back) : roll_finite<false>(r, back);
  });
}

}  // namespace

// `group` and `time` are ascending, and `edge_` is ascending within a group. An empty `group` is a
// single group. kind: 0 mean, 1 sum, 2 standard deviation.
// [[Rcpp::export]]
NumericVector roll_sums_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_,
                            double seconds, int kind, int least) {
  const Doubles time(time_), value(value_);
  const R_xlen_t n = time.size();
  const Edge edge(edge_, seconds, time);
  NumericVector out(no_init(n));
  const double *t = time.begin(), *v = value.begin();
  double* o = out.begin();
  if (kind < 2) {
    const Seconds alone = {t, seconds};
    const bool done = edge.told() ? roll_all_finite(group, n, t, v, edge, o, kind == 0, least)
                                  : roll_all_finite(group, n, t, v, alone, o, kind == 0, least);
    if (done) return out;
  }
  auto run = kind == 0 ? roll<Mean> : kind == 1 ? roll<Sum> : roll<Deviation>;
  by_group(group, n, [&](R_xlen_t begin, R_xlen_t end) {
    run(begin, end, t, v, edge, o, least);
    return true;
  });
  return out;
}

// The smallest or largest value in the window, by a monotonic queue.
// [[Rcpp::export]]
NumericVector roll_extremes_cpp(IntegerVector group, SEXP time_, SEXP value_, SEXP edge_,
                                double seconds, bool largest, int least) {
  const Doubles time(time_), value(value_);
  const Edge edge(edge_, seconds, time);
  const R_xlen_t n = time.size();
  NumericVector out(no_init(n));
  by_group(group, n, [&](R_xlen_t begin, R_xlen_t end) {
    std::deque<R_xlen_t> queue;
    R_xlen_t from = begin, count = 0;
    for (R_xlen_t i = begin; i < end; ++i) {
      if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
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
    return true;
  });
  return out;
}
