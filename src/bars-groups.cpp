// Numbers groups from 1 in order of first appearance. R keeps equal texts as one object, so objects
// are compared.
#include <Rcpp.h>

#include "doubles.h"
#include <algorithm>
#include <cmath>
#include <cstring>
#include <unordered_map>
#include <vector>
using namespace Rcpp;

namespace {

bool is_plain_text(SEXP text) {
  if (text == NA_STRING) return false;
  if (Rf_getCharCE(text) == CE_UTF8) return true;
  const char* s = CHAR(text);
  return std::none_of(s, s + LENGTH(text), [](char c) { return (c & 0x80) != 0; });
}

// Whether a row may follow another: its text is greater by bytes, or the text is equal and the time
// is not earlier. False for texts in other encodings, missing texts and missing times.
class Order {
 public:
  Order(const SEXP* text, const double* time) : text_(text), time_(time) {}
  bool holds(R_xlen_t i) const {
    return i > 0 && text_[i] == text_[i - 1] ? time_[i] >= time_[i - 1] : begins(i);
  }
  // start of the next text
  bool begins(R_xlen_t i) const {
    return !std::isnan(time_[i]) && is_plain_text(text_[i]) &&
           (i == 0 || std::strcmp(CHAR(text_[i - 1]), CHAR(text_[i])) < 0);
  }

 private:
  const SEXP* text_;
  const double* time_;
};

// Rows are checked in batches without branches.
const R_xlen_t some = 8;

// The end of the run of one text that begins at row i.
R_xlen_t run_end(const SEXP* p, R_xlen_t i, R_xlen_t n) {
  const SEXP own = p[i];
  R_xlen_t end = i + 1;
  for (; end + some <= n; end += some) {
    bool other = false;
    for (R_xlen_t k = 0; k < some; ++k) other |= p[end + k] != own;
    if (other) break;
  }
  while (end < n && p[end] == own) ++end;
  return end;
}

// Whether times in [from, to) never fall. False if a time is missing.
bool times_rise(const double* t, R_xlen_t from, R_xlen_t to) {
  R_xlen_t i = from + 1;
  for (; i + some <= to; i += some) {
    bool falls = false;
    for (R_xlen_t k = 0; k < some; ++k) falls |= !(t[i + k] >= t[i + k - 1]);
    if (falls) return false;
  }
  for (; i < to; ++i) {
    if (!(t[i] >= t[i - 1])) return false;
  }
  return true;
}

}  // namespace

// With times, `ordered` says whether rows are ordered by text and time. If all rows have one text
// and `lone` is set, `id` is NULL.
// [[Rcpp::export]]
List groups_cpp(CharacterVector text, SEXP time_ = R_NilValue, bool lone = false) {
  const R_xlen_t n = text.size();
  std::vector<double> first;
  std::unordered_map<SEXP, int> seen;
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  const NumericVector none(0);
  const Doubles time(Rf_isNull(time_) ? static_cast<SEXP>(none) : time_);
  const Order order(p, time.begin());
  bool ordered = !Rf_isNull(time_) && time.size() == n;
  const R_xlen_t first_end = n > 0 ? run_end(p, 0, n) : 0;
  const bool one = lone && n > 0 && first_end == n;
  const Shield<SEXP> ids(one ? R_NilValue : Rf_allocVector(INTSXP, n));
  int* o = one ? nullptr : INTEGER(ids);
  // one run of equal texts at a time
  for (R_xlen_t i = 0, end; i < n; i = end) {
    end = i == 0 ? first_end : run_end(p, i, n);
    auto found = seen.emplace(p[i], static_cast<int>(seen.size()) + 1);
    if (found.second) first.push_back(static_cast<double>(i + 1));
    if (o != nullptr) std::fill(o + i, o + end, found.first->second);
    ordered = ordered && order.begins(i) && times_rise(time.begin(), i, end);
  }
  return List::create(_["id"] = static_cast<SEXP>(ids), _["first"] = wrap(first),
                      _["ordered"] = ordered);
}

// The first rows of runs of equal texts, from 1.
// [[Rcpp::export]]
IntegerVector runs_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  std::vector<int> first;
  for (R_xlen_t i = 0; i < n; ++i) {
    if (i == 0 || p[i] != p[i - 1]) first.push_back(static_cast<int>(i + 1));
  }
  return wrap(first);
}

// The last rows of runs of equal texts, from 1, where all equal texts are one run: found in steps
// that double, so that long runs are not read.
// [[Rcpp::export]]
IntegerVector run_ends_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  std::vector<int> last;
  for (R_xlen_t first = 0; first < n;) {
    R_xlen_t same = first, step = 1;
    while (same + step < n && p[same + step] == p[first]) {
      same += step;
      step *= 2;
    }
    R_xlen_t other = std::min(same + step, n);
    while (other - same > 1) {
      const R_xlen_t middle = same + (other - same) / 2;
      (p[middle] == p[first] ? same : other) = middle;
    }
    last.push_back(static_cast<int>(same + 1));
    first = same + 1;
  }
  return wrap(last);
}

// The first text that is none of the given words, from 1; 0 if there is none.
// [[Rcpp::export]]
double first_outside_cpp(CharacterVector text, CharacterVector words) {
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  SEXP last = nullptr;
  for (R_xlen_t i = 0; i < text.size(); ++i) {
    if (p[i] == last) continue;
    last = p[i];
    bool found = false;
    for (R_xlen_t w = 0; w < words.size() && !found; ++w) found = STRING_ELT(words, w) == last;
    if (!found) return static_cast<double>(i + 1);
  }
  return 0;
}

// Whether rows are ordered by text and time, without numbering groups.
// [[Rcpp::export]]
bool stands_ordered_cpp(CharacterVector text, SEXP time_) {
  const Doubles time(time_);
  const Order order(STRING_PTR(static_cast<SEXP>(text)), time.begin());
  for (R_xlen_t i = 0; i < time.size(); ++i) {
    if (!order.holds(i)) return false;
  }
  return true;
}

// Whether the times of each group rise and none is missing.
// [[Rcpp::export]]
LogicalVector groups_rise_cpp(SEXP time_, List groups) {
  const Doubles time(time_);
  LogicalVector out(groups.size());
  for (R_xlen_t g = 0; g < groups.size(); ++g) {
    const IntegerVector rows = groups[g];
    bool rises = rows.size() > 0 && !std::isnan(time[rows[0] - 1]);
    for (R_xlen_t i = 1; i < rows.size() && rises; ++i) {
      rises = time[rows[i] - 1] > time[rows[i - 1] - 1];
    }
    out[g] = rises;
  }
  return out;
}

// Whether times rise strictly and none is missing.
// [[Rcpp::export]]
bool rises_cpp(SEXP time_) {
  const Doubles time(time_);
  const R_xlen_t n = time.size();
  if (n > 0 && std::isnan(time[0])) return false;
  for (R_xlen_t i = 1; i < n; ++i) {
    if (!(time[i] > time[i - 1])) return false;
  }
  return true;
}

// The number of different times in sorted times.
// [[Rcpp::export]]
double different_times_cpp(SEXP time_) {
  const Doubles time(time_);
  double count = time.size() > 0;
  for (R_xlen_t i = 1; i < time.size(); ++i) count += time[i] != time[i - 1];
  return count;
}
