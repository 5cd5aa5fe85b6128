// SDMX-JSON observations as numeric matrices.
#ifndef VETUSTA_JSON_OBSERVATIONS_H
#define VETUSTA_JSON_OBSERVATIONS_H
#include <algorithm>
#include <vector>
#include "json-columns.h"

namespace vetusta {

// The numbers of a key such as 0:1:5; false for any other text.
inline bool key_numbers(const char* text, size_t length, std::vector<int>* out) {
  int number = 0;
  bool any = false;
  for (size_t i = 0; i <= length; i++) {
    if (i == length || text[i] == ':') {
      if (!any) return false;
      out->push_back(number);
      number = 0;
      any = false;
    } else if (text[i] < '0' || text[i] > '9' || number > 100000000) {
      return false;
    } else {
      number = number * 10 + (text[i] - '0');
      any = true;
    }
  }
  return true;
}

// SDMX-JSON observations in their common form, arrays of numbers by numeric keys, of one or many
// series: list(counts, index, cells), the number of observations of each series and two matrices
// with a column per observation. Values left out at the end of an array are missing. NULL for any
// other form.
class Observations {
 public:
  // false for an observation in another form
  bool add(const Value& x) {
    if (!x.IsObject()) return false;
    for (auto member = x.MemberBegin(); member != x.MemberEnd(); ++member) {
      if (!member->value.IsArray()) return false;
      for (auto& one : member->value.GetArray()) {
        if (!one.IsNumber() && !one.IsNull()) return false;
      }
      width_ = std::max(width_, static_cast<size_t>(member->value.Size()));
      const size_t before = index_.size();
      if (!key_numbers(member->name.GetString(), member->name.GetStringLength(), &index_)) {
        return false;
      }
      if (before == 0) parts_ = index_.size();
      if (index_.size() - before != parts_) return false;
      all_.push_back(&member->value);
    }
    counts_.push_back(static_cast<int>(x.MemberCount()));
    return width_ <= 64;
  }
  void none() { counts_.push_back(0); }
  SEXP columns() const {
    if (!width_) return R_NilValue;
    const int n = static_cast<int>(all_.size());
    Shield<SEXP> keys(Rf_allocMatrix(INTSXP, static_cast<int>(parts_), n));
    std::copy(index_.begin(), index_.end(), INTEGER(keys));
    Shield<SEXP> cells(Rf_allocMatrix(REALSXP, static_cast<int>(width_), n));
    double* to = REAL(cells);
    for (const Value* one : all_) {
      size_t k = 0;
      for (auto& cell : one->GetArray()) to[k++] = is_nothing(cell) ? NA_REAL : cell.GetDouble();
      for (; k < width_; k++) to[k] = NA_REAL;
      to += width_;
    }
    return Rcpp::List::create(Rcpp::_["counts"] = Rcpp::wrap(counts_),
                              Rcpp::_["index"] = SEXP(keys), Rcpp::_["cells"] = SEXP(cells));
  }

 private:
  std::vector<int> counts_, index_;
  std::vector<const Value*> all_;
  size_t parts_ = 0, width_ = 0;
};

}  // namespace vetusta

#endif
