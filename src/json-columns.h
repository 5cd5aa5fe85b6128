// JSON values as R values: single values, and columns built value by value.
#ifndef VETUSTA_JSON_COLUMNS_H
#define VETUSTA_JSON_COLUMNS_H
#include <Rcpp.h>
#include <rapidjson/document.h>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <vector>

namespace vetusta {

using rapidjson::Value;
using Rcpp::Shield;

const double largest = 9007199254740992.0;

inline bool is_single(const Value& x) {
  return !x.IsObject() && !x.IsArray();
}

// Words such as NaN, which stand for missing numbers.
inline bool is_nothing(const Value& x) {
  return x.IsNull() || (x.IsDouble() && !std::isfinite(x.GetDouble()));
}

inline bool is_long(const Value& x) {
  return (x.IsUint64() && x.GetUint64() > static_cast<uint64_t>(largest)) ||
         (x.IsInt64() && !x.IsUint64() && x.GetInt64() < -static_cast<int64_t>(largest));
}

inline SEXP text_of(const Value& x) {
  return Rf_mkCharLenCE(x.GetString(), x.GetStringLength(), CE_UTF8);
}

inline SEXP number_text(const Value& x) {
  char text[32];
  if (x.IsUint64())
    std::snprintf(text, sizeof text, "%llu", static_cast<unsigned long long>(x.GetUint64()));
  else if (x.IsInt64())
    std::snprintf(text, sizeof text, "%lld", static_cast<long long>(x.GetInt64()));
  else {
    // the shortest text that reads back the same
    for (int digits = 1; digits <= 17; digits++) {
      std::snprintf(text, sizeof text, "%.*g", digits, x.GetDouble());
      if (std::strtod(text, nullptr) == x.GetDouble()) break;
    }
  }
  return Rf_mkCharCE(text, CE_UTF8);
}

inline SEXP text_or_number(const Value& x) {
  if (is_nothing(x)) return NA_STRING;
  if (x.IsString()) return text_of(x);
  if (x.IsBool()) return Rf_mkChar(x.GetBool() ? "true" : "false");
  return number_text(x);
}

// A column built value by value: logical, then numeric, then text, the first type that fits all
// values.
class Column {
 public:
  Column(size_t n, bool exact) : values_(n, nullptr), exact_(exact) {}
  void set(size_t i, const Value& x) {
    values_[i] = &x;
    if (is_nothing(x)) return;
    if (x.IsString())
      texts_ = true;
    else if (x.IsBool())
      flags_ = true;
    else if (x.IsNumber()) {
      numbers_ = true;
      if (exact_ && is_long(x)) long_ = true;
    } else
      nested_ = true;
  }
  bool nested() const { return nested_; }
  const Value* at(size_t i) const { return values_[i]; }
  SEXP vector() const {
    R_xlen_t n = values_.size();
    if (texts_ || long_) {
      Shield<SEXP> out(Rf_allocVector(STRSXP, n));
      // repeated texts are looked up once
      const Value* before = nullptr;
      SEXP last = NA_STRING;
      for (R_xlen_t i = 0; i < n; i++) {
        const Value* x = values_[i];
        SEXP one;
        if (!x)
          one = NA_STRING;
        else if (before && x->IsString() && before->IsString() &&
                 x->GetStringLength() == before->GetStringLength() &&
                 std::memcmp(x->GetString(), before->GetString(), x->GetStringLength()) == 0)
          one = last;
        else
          one = text_or_number(*x);
        SET_STRING_ELT(out, i, one);
        if (x) {
          before = x;
          last = one;
        }
      }
      return out;
    }
    if (numbers_) {
      Shield<SEXP> out(Rf_allocVector(REALSXP, n));
      double* to = REAL(out);
      for (R_xlen_t i = 0; i < n; i++) {
        const Value* x = values_[i];
        to[i] = !x || is_nothing(*x) ? NA_REAL : x->IsBool() ? x->GetBool() : x->GetDouble();
      }
      return out;
    }
    Shield<SEXP> out(Rf_allocVector(LGLSXP, n));
    for (R_xlen_t i = 0; i < n; i++) {
      const Value* x = values_[i];
      LOGICAL(out)[i] = !x || is_nothing(*x) ? NA_LOGICAL : x->GetBool();
    }
    return out;
  }

 private:
  std::vector<const Value*> values_;
  bool exact_;
  bool texts_ = false;
  bool numbers_ = false;
  bool flags_ = false;
  bool long_ = false;
  bool nested_ = false;
};

}  // namespace vetusta

#endif
