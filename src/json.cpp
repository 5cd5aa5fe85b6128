// JSON text to columns: parsed once, and each place that is asked for, by its JSON Pointer (RFC
// 6901), as R's vectors and tables.
#ifdef __SSE2__
#define RAPIDJSON_SSE2
#endif
#include <Rcpp.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <unordered_map>

#include <rapidjson/document.h>
#include <rapidjson/error/en.h>
#include <rapidjson/pointer.h>

#include "json-parse.h"

using namespace Rcpp;
using rapidjson::SizeType;
using Value = rapidjson::Value;

namespace {

// What arrays become: lists only; vectors, where all values are single ones; tables, where all are
// objects, and matrices. The last is as the second, but for observations by keys of numbers.
enum Level { lists = 0, vectors = 1, tables = 2, observations = 3 };

const double largest = 9007199254740992.0;

struct Reader {
  Level level;
  // whether whole numbers that a double would change are given as text
  bool exact;
};

bool is_single(const Value& x) {
  return !x.IsObject() && !x.IsArray();
}

// Words such as NaN stand for numbers that are none.
bool is_nothing(const Value& x) {
  return x.IsNull() || (x.IsDouble() && !std::isfinite(x.GetDouble()));
}

bool is_long(const Value& x) {
  return (x.IsUint64() && x.GetUint64() > static_cast<uint64_t>(largest)) ||
         (x.IsInt64() && !x.IsUint64() && x.GetInt64() < -static_cast<int64_t>(largest));
}

SEXP text_of(const Value& x) {
  return Rf_mkCharLenCE(x.GetString(), x.GetStringLength(), CE_UTF8);
}

SEXP number_text(const Value& x) {
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

SEXP text_or_number(const Value& x) {
  if (is_nothing(x)) return NA_STRING;
  if (x.IsString()) return text_of(x);
  if (x.IsBool()) return Rf_mkChar(x.GetBool() ? "true" : "false");
  return number_text(x);
}

// Values that are gathered one by one: logical, then numbers, then texts, whichever all of them can
// be.
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
      // what stands in many rows is looked up once
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

SEXP to_r(const Value& x, const Reader& how);
SEXP named_list(const Value& x, const Reader& how, bool observed = true);

SEXP single(const Value& x, const Reader& how) {
  if (is_nothing(x)) return R_NilValue;
  Column one(1, how.exact);
  one.set(0, x);
  return one.vector();
}

// The numbers of a key such as 0:1:5; false where it is anything else.
bool key_numbers(const char* text, size_t length, std::vector<int>* out) {
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

// The usual observations of SDMX-JSON, arrays of numbers by keys of numbers, of one series or of
// many: list(counts, index, cells), how many each has, and two matrices with a column for each
// observation, what is left out at an array's end missing. NULL for any other.
class Observations {
 public:
  // false where one is not usual
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
    return List::create(_["counts"] = wrap(counts_), _["index"] = SEXP(keys),
                        _["cells"] = SEXP(cells));
  }

 private:
  std::vector<int> counts_, index_;
  std::vector<const Value*> all_;
  size_t parts_ = 0, width_ = 0;
};

bool is_called(const Value& name, const char* text) {
  return std::strcmp(name.GetString(), text) == 0;
}

SEXP observation_cells(const Value& x) {
  Observations all;
  return all.add(x) ? all.columns() : R_NilValue;
}

// The series of a data set: what each says but its observations, and those of all as the attribute
// `usual`; NULL where some are not usual.
SEXP series_cells(const Value& x, const Reader& how) {
  Observations all;
  for (auto one = x.MemberBegin(); one != x.MemberEnd(); ++one) {
    if (!one->value.IsObject()) return R_NilValue;
    auto found = one->value.FindMember("observations");
    if (found == one->value.MemberEnd()) {
      all.none();
    } else if (!all.add(found->value)) {
      return R_NilValue;
    }
  }
  Shield<SEXP> usual(all.columns());
  if (usual == R_NilValue) return R_NilValue;
  Shield<SEXP> out(Rf_allocVector(VECSXP, x.MemberCount()));
  Shield<SEXP> names(Rf_allocVector(STRSXP, x.MemberCount()));
  R_xlen_t i = 0;
  for (auto one = x.MemberBegin(); one != x.MemberEnd(); ++one, ++i) {
    SET_STRING_ELT(names, i, text_of(one->name));
    const bool observed = one->value.HasMember("observations");
    if (one->value.MemberCount() > static_cast<SizeType>(observed))
      SET_VECTOR_ELT(out, i, named_list(one->value, how, false));
  }
  Rf_setAttrib(out, R_NamesSymbol, names);
  Rf_setAttrib(out, Rf_install("usual"), usual);
  return out;
}

// Without its observations where they are elsewhere already.
SEXP named_list(const Value& x, const Reader& how, bool observed) {
  R_xlen_t n = x.MemberCount();
  Shield<SEXP> out(Rf_allocVector(VECSXP, n));
  Shield<SEXP> names(Rf_allocVector(STRSXP, n));
  R_xlen_t i = 0;
  for (auto member = x.MemberBegin(); member != x.MemberEnd(); ++member, ++i) {
    SET_STRING_ELT(names, i, text_of(member->name));
    if (how.level == observations && member->value.IsObject() && member->value.MemberCount()) {
      const bool own = is_called(member->name, "observations");
      if (own && !observed) continue;
      SEXP cells = own                                 ? observation_cells(member->value)
                   : is_called(member->name, "series") ? series_cells(member->value, how)
                                                       : R_NilValue;
      if (cells != R_NilValue) {
        SET_VECTOR_ELT(out, i, cells);
        continue;
      }
    }
    SET_VECTOR_ELT(out, i, to_r(member->value, how));
  }
  if (n) Rf_setAttrib(out, R_NamesSymbol, names);
  return out;
}

// An array of objects as a table; what is an object or an array in a row makes its column a list.
SEXP table(const Value& rows, const Reader& how) {
  size_t n = rows.Size();
  std::vector<std::string> names;
  std::vector<Column> columns;
  std::unordered_map<std::string, size_t> places;
  for (SizeType i = 0; i < rows.Size(); i++) {
    size_t guess = 0;
    for (auto member = rows[i].MemberBegin(); member != rows[i].MemberEnd(); ++member, ++guess) {
      const char* name = member->name.GetString();
      size_t length = member->name.GetStringLength();
      size_t at = guess;
      // rows have their members in one order, as a rule
      if (at >= names.size() || names[at].size() != length ||
          std::memcmp(names[at].data(), name, length) != 0) {
        auto found = places.emplace(std::string(name, length), names.size());
        at = found.first->second;
        if (found.second) {
          names.emplace_back(name, length);
          columns.emplace_back(n, how.exact);
        }
      }
      columns[at].set(i, member->value);
    }
  }
  R_xlen_t width = names.size();
  Shield<SEXP> out(Rf_allocVector(VECSXP, width));
  Shield<SEXP> labels(Rf_allocVector(STRSXP, width));
  for (R_xlen_t k = 0; k < width; k++) {
    SET_STRING_ELT(labels, k, Rf_mkCharLenCE(names[k].data(), names[k].size(), CE_UTF8));
    if (!columns[k].nested()) {
      SET_VECTOR_ELT(out, k, columns[k].vector());
      continue;
    }
    SEXP list = Rf_allocVector(VECSXP, n);
    SET_VECTOR_ELT(out, k, list);
    for (size_t i = 0; i < n; i++) {
      const Value* x = columns[k].at(i);
      SET_VECTOR_ELT(list, i, x ? to_r(*x, how) : R_NilValue);
    }
  }
  Rf_setAttrib(out, R_NamesSymbol, labels);
  Rf_setAttrib(out, R_ClassSymbol, Rf_mkString("data.frame"));
  Shield<SEXP> numbers(Rf_allocVector(INTSXP, 2));
  INTEGER(numbers)[0] = NA_INTEGER;
  INTEGER(numbers)[1] = -static_cast<int>(n);
  Rf_setAttrib(out, R_RowNamesSymbol, numbers);
  return out;
}

// Arrays of one length, of single values, as a matrix; NULL for any other.
SEXP matrix(const Value& rows, const Reader& how) {
  size_t n = rows.Size();
  size_t width = rows[0].Size();
  if (!width) return R_NilValue;
  Column all(n * width, how.exact);
  for (SizeType i = 0; i < n; i++) {
    if (rows[i].Size() != width) return R_NilValue;
    for (SizeType k = 0; k < width; k++) {
      if (!is_single(rows[i][k])) return R_NilValue;
      all.set(k * n + i, rows[i][k]);
    }
  }
  // a column of texts beside one of numbers is no matrix
  bool texts = false;
  bool others = false;
  for (size_t i = 0; i < n * width; i++) {
    const Value& x = *all.at(i);
    if (is_nothing(x)) continue;
    (x.IsString() ? texts : others) = true;
  }
  if (texts && others) return R_NilValue;
  Shield<SEXP> out(all.vector());
  Shield<SEXP> dim(Rf_allocVector(INTSXP, 2));
  INTEGER(dim)[0] = static_cast<int>(n);
  INTEGER(dim)[1] = static_cast<int>(width);
  Rf_setAttrib(out, R_DimSymbol, dim);
  return out;
}

SEXP array(const Value& x, const Reader& how) {
  SizeType n = x.Size();
  if (n > 0 && how.level > lists) {
    bool singles = true;
    bool objects = how.level == tables;
    bool arrays = how.level == tables;
    for (SizeType i = 0; i < n && (singles || objects || arrays); i++) {
      singles = singles && is_single(x[i]);
      objects = objects && x[i].IsObject();
      arrays = arrays && x[i].IsArray();
    }
    if (singles) {
      Column all(n, how.exact);
      for (SizeType i = 0; i < n; i++) all.set(i, x[i]);
      return all.vector();
    }
    if (objects) return table(x, how);
    if (arrays) {
      SEXP found = matrix(x, how);
      if (found != R_NilValue) return found;
    }
  }
  Shield<SEXP> out(Rf_allocVector(VECSXP, n));
  for (SizeType i = 0; i < n; i++) SET_VECTOR_ELT(out, i, to_r(x[i], how));
  return out;
}

SEXP to_r(const Value& x, const Reader& how) {
  if (is_single(x)) return single(x, how);
  return x.IsObject() ? named_list(x, how) : array(x, how);
}

}  // namespace

// The values at JSON Pointers, in their order; NULL where one leads nowhere. A body that is no JSON
// is an error, which says where.
// [[Rcpp::export]]
List json_read_cpp(RawVector body, CharacterVector pointers, int level, bool exact) {
  // the reader is fastest on a text that ends with a byte of zero; one within the text would end it
  // too early
  if (body.size() && std::memchr(RAW(body), 0, body.size())) stop("it holds a byte of zero");
  std::string bytes(reinterpret_cast<const char*>(RAW(body)), body.size());
  Parser parser{&bytes[0], rapidjson::Reader()};
  rapidjson::Document document;
  document.Populate(parser);
  if (parser.reader.HasParseError()) {
    if (parser.reader.GetParseErrorCode() == rapidjson::kParseErrorTermination)
      stop("it nests too deeply");
    stop("byte %d: %s", static_cast<int>(parser.reader.GetErrorOffset()),
         rapidjson::GetParseError_En(parser.reader.GetParseErrorCode()));
  }
  Reader how = {static_cast<Level>(level), exact};
  List out(pointers.size());
  for (R_xlen_t i = 0; i < pointers.size(); i++) {
    SEXP pointer = pointers[i];
    rapidjson::Pointer place(CHAR(pointer), Rf_xlength(pointer));
    const Value* found = place.IsValid() ? place.Get(document) : nullptr;
    if (found) out[i] = to_r(*found, how);
  }
  out.attr("names") = pointers.attr("names");
  return out;
}
