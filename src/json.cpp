// JSON text to columns: parses once and returns the values at JSON Pointers (RFC 6901) as R vectors
// and tables.
#ifdef __SSE2__
#define RAPIDJSON_SSE2
#endif
#include <Rcpp.h>

#include <cstring>
#include <unordered_map>

#include <rapidjson/document.h>
#include <rapidjson/error/en.h>
#include <rapidjson/pointer.h>

#include "json-columns.h"
#include "json-observations.h"
#include "json-parse.h"

using namespace Rcpp;
using namespace vetusta;
using rapidjson::SizeType;

namespace {

// Arrays become lists; or vectors if all values are single; or tables if all are objects, and
// matrices. The last mode is like the second, except for observations by numeric keys.
enum Level { lists = 0, vectors = 1, tables = 2, observations = 3 };

struct Reader {
  Level level;
  // whether whole numbers that a double would change become texts
  bool exact;
};

SEXP to_r(const Value& x, const Reader& how);
SEXP named_list(const Value& x, const Reader& how, bool observed = true);

SEXP single(const Value& x, const Reader& how) {
  if (is_nothing(x)) return R_NilValue;
  Column one(1, how.exact);
  one.set(0, x);
  return one.vector();
}

bool is_called(const Value& name, const char* text) {
  return std::strcmp(name.GetString(), text) == 0;
}

SEXP observation_cells(const Value& x) {
  Observations all;
  return all.add(x) ? all.columns() : R_NilValue;
}

// The series of a data set without their observations, and the observations of all series as the
// attribute `usual`, which is NULL if some have another form.
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

// Leaves out observations that were decoded elsewhere.
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

// An array of objects as a table. A column with objects or arrays is a list.
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
      // rows usually have their members in the same order
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

// Arrays of single values with equal lengths as a matrix; NULL for others.
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
  // texts and numbers do not form a matrix
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

// The values at JSON Pointers, in order; NULL for a pointer without a value. Invalid JSON is an
// error with its position.
// [[Rcpp::export]]
List json_read_cpp(RawVector body, CharacterVector pointers, int level, bool exact) {
  // the parser is fastest on a text that ends with a zero byte; a zero byte within the text would
  // end it too early
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
