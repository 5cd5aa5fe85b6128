// Decodes common pages in one pass: an array of flat objects becomes typed columns, and single
// values elsewhere are noted. All other forms (nested objects in rows, numbers mixed with texts,
// whole numbers that a double would change) are left to json.cpp.
#ifdef __SSE2__
#define RAPIDJSON_SSE2
#endif
#include <Rcpp.h>

#include <algorithm>
#include <cmath>

#include <rapidjson/error/en.h>
#include <rapidjson/reader.h>
#include <rapidjson/stringbuffer.h>

#include "time-instant.h"

using namespace Rcpp;
using rapidjson::SizeType;

namespace {

const double largest = 9007199254740992.0;
const int deepest = 500;

enum Kind { nothing, flags, numbers, texts };

struct Column {
  std::string name;
  Kind kind = nothing;
  std::vector<double> values;
  // the end of each text in `letters`; -1 for a missing text
  std::vector<int64_t> ends;
  std::vector<int64_t> starts;
};

// The tokens of a JSON Pointer.
std::vector<std::string> tokens_of(const char* pointer) {
  std::vector<std::string> tokens;
  for (const char* p = pointer; *p; p++) {
    if (*p == '/')
      tokens.emplace_back();
    else if (*p == '~' && (p[1] == '0' || p[1] == '1'))
      tokens.back() += *++p == '0' ? '~' : '/';
    else
      tokens.back() += *p;
  }
  return tokens;
}

struct Asked {
  std::vector<std::string> path;
  bool found = false;
  Kind kind = nothing;
  double number = NA_REAL;
  std::string text;
};

class Handler : public rapidjson::BaseReaderHandler<rapidjson::UTF8<>, Handler> {
 public:
  std::vector<std::string> rows_path;
  std::vector<Asked> asked;
  std::vector<Column> columns;
  std::string letters;
  size_t rows = 0;
  bool found_rows = false;
  bool unusual = false;
  bool deep = false;
  // whether rows are the members of an object, and their names
  bool map = false;
  std::vector<std::string> keys;

  bool Null() { return single(nothing, NA_REAL, nullptr, 0); }
  bool Bool(bool x) { return single(flags, x, nullptr, 0); }
  bool Int(int x) { return single(numbers, x, nullptr, 0); }
  bool Uint(unsigned x) { return single(numbers, x, nullptr, 0); }
  bool Int64(int64_t x) { return whole(static_cast<double>(x)); }
  bool Uint64(uint64_t x) { return whole(static_cast<double>(x)); }
  bool Double(double x) {
    return std::isfinite(x) ? single(numbers, x, nullptr, 0) : single(nothing, NA_REAL, nullptr, 0);
  }
  bool String(const char* text, SizeType n, bool) { return single(texts, NA_REAL, text, n); }
  bool Key(const char* text, SizeType n, bool) {
    if (in_row()) {
      current_ = column(text, n);
      return true;
    }
    if (map && inside_rows()) keys.emplace_back(text, n);
    if (!inside_rows()) path_.back().assign(text, n);
    return true;
  }
  bool StartObject() { return start(false); }
  bool StartArray() { return start(true); }
  bool EndObject(SizeType) { return end(); }
  bool EndArray(SizeType) { return end(); }

 private:
  // the keys of the current position; none are kept within rows
  std::vector<std::string> path_;
  std::vector<bool> arrays_;
  int depth_ = 0;
  int rows_depth_ = -1;
  size_t current_ = 0;
  size_t guess_ = 0;

  bool inside_rows() const { return rows_depth_ >= 0; }
  bool in_row() const { return rows_depth_ >= 0 && depth_ == rows_depth_ + 1; }
  bool give_up() {
    unusual = true;
    return false;
  }
  bool whole(double x) {
    return std::fabs(x) >= largest ? give_up() : single(numbers, x, nullptr, 0);
  }

  bool start(bool array) {
    if (++depth_ > deepest) {
      deep = true;
      return false;
    }
    if (inside_rows()) {
      // a row is an object of single values
      if (array || depth_ != rows_depth_ + 1) return give_up();
      rows++;
      guess_ = 0;
      return true;
    }
    if (at_rows()) {
      if (array == map) return give_up();
      found_rows = true;
      rows_depth_ = depth_;
      return true;
    }
    // a requested place without a single value is left to json.cpp
    for (const Asked& one : asked)
      if (one.path == path_) return give_up();
    arrays_.push_back(array);
    path_.emplace_back();
    return true;
  }

  bool end() {
    depth_--;
    if (inside_rows()) {
      if (depth_ < rows_depth_) rows_depth_ = -1;
      return true;
    }
    path_.pop_back();
    arrays_.pop_back();
    return true;
  }

  bool at_rows() const {
    if (found_rows || path_.size() != rows_path.size()) return false;
    for (bool array : arrays_)
      if (array) return false;
    return path_ == rows_path;
  }

  size_t column(const char* text, SizeType n) {
    // rows usually have their members in the same order
    size_t at = guess_;
    auto is = [&](size_t k) {
      return columns[k].name.size() == n && std::memcmp(columns[k].name.data(), text, n) == 0;
    };
    if (at >= columns.size() || !is(at)) {
      for (at = 0; at < columns.size() && !is(at); at++) {
      }
      if (at == columns.size()) {
        columns.emplace_back();
        columns.back().name.assign(text, n);
      }
    }
    guess_ = at + 1;
    return at;
  }

  bool single(Kind kind, double x, const char* text, SizeType n) {
    if (in_row()) return cell(columns[current_], kind, x, text, n);
    // a value in place of a row
    if (inside_rows()) return give_up();
    for (bool array : arrays_)
      if (array) return true;
    if (at_rows()) return give_up();
    for (Asked& one : asked) {
      if (one.path != path_) continue;
      one.found = true;
      one.kind = kind;
      one.number = x;
      if (text) one.text.assign(text, n);
    }
    return true;
  }

  bool cell(Column& column, Kind kind, double x, const char* text, SizeType n) {
    if (kind != nothing && kind != column.kind) {
      if (column.kind == nothing) {
        column.kind = kind;
      } else {
        return give_up();
      }
    }
    if (column.kind == texts) {
      if (column.ends.size() >= rows) return give_up();
      column.starts.resize(rows, -1);
      column.ends.resize(rows, -1);
      if (kind == nothing) return true;
      column.starts[rows - 1] = letters.size();
      letters.append(text, n);
      column.ends[rows - 1] = letters.size();
      return true;
    }
    size_t held = column.values.size();
    // a repeated name in a row
    if (held >= rows) return give_up();
    if (held + 1 < rows) column.values.resize(rows - 1, NA_REAL);
    column.values.push_back(x);
    return true;
  }
};

SEXP vector_of(Column& column, size_t rows, const std::string& letters) {
  if (column.kind == texts) {
    column.starts.resize(rows, -1);
    column.ends.resize(rows, -1);
    Shield<SEXP> out(Rf_allocVector(STRSXP, rows));
    const char* before = nullptr;
    size_t size = 0;
    SEXP last = NA_STRING;
    for (size_t i = 0; i < rows; i++) {
      if (column.starts[i] < 0) {
        SET_STRING_ELT(out, i, NA_STRING);
        continue;
      }
      const char* text = letters.data() + column.starts[i];
      size_t n = column.ends[i] - column.starts[i];
      // repeated texts are looked up once
      if (!before || n != size || std::memcmp(before, text, n) != 0)
        last = Rf_mkCharLenCE(text, n, CE_UTF8);
      before = text;
      size = n;
      SET_STRING_ELT(out, i, last);
    }
    return out;
  }
  column.values.resize(rows, NA_REAL);
  if (column.kind == numbers) return NumericVector(column.values.begin(), column.values.end());
  Shield<SEXP> out(Rf_allocVector(LGLSXP, rows));
  for (size_t i = 0; i < rows; i++)
    LOGICAL(out)[i] = std::isnan(column.values[i]) ? NA_LOGICAL : column.values[i] != 0;
  return out;
}

// A column of texts as instants with offsets; NULL if a text is not an instant.
SEXP instants_of(Column& column, size_t rows, const std::string& letters) {
  column.starts.resize(rows, -1);
  column.ends.resize(rows, -1);
  NumericVector out(rows);
  for (size_t i = 0; i < rows; i++) {
    out[i] = NA_REAL;
    if (column.starts[i] < 0) continue;
    bool local = false;
    const char* text = letters.data();
    out[i] = instant_of(text + column.starts[i], text + column.ends[i], local);
    if (local || std::isnan(out[i])) return R_NilValue;
  }
  out.attr("class") = CharacterVector::create("POSIXct", "POSIXt");
  out.attr("tzone") = "UTC";
  return out;
}

SEXP value_of(const Asked& one) {
  switch (one.kind) {
    case flags: return Rf_ScalarLogical(one.number != 0);
    case numbers: return Rf_ScalarReal(one.number);
    case texts: {
      Shield<SEXP> text(Rf_mkCharLenCE(one.text.data(), one.text.size(), CE_UTF8));
      return Rf_ScalarString(text);
    }
    default: return R_NilValue;
  }
}

}  // namespace

// Rows at the first pointer and single values at the others. NULL for other forms and for invalid
// JSON, whose error json_read_cpp() reports. Members named in `instants` become instants if all are
// RFC 3339, and stay texts otherwise. With `map` the rows are members of an object, and their names
// are a column `key`.
// [[Rcpp::export]]
SEXP json_rows_cpp(RawVector body, CharacterVector pointers, CharacterVector instants,
                   bool map) {
  Handler handler;
  handler.map = map;
  handler.rows_path = tokens_of(CHAR(pointers[0]));
  for (R_xlen_t i = 1; i < pointers.size(); i++) {
    handler.asked.emplace_back();
    handler.asked.back().path = tokens_of(CHAR(pointers[i]));
    // a place within an array has no single path
    for (const std::string& token : handler.asked.back().path) {
      if (!token.empty() && token.find_first_not_of("0123456789") == std::string::npos)
        return R_NilValue;
    }
  }
  rapidjson::Reader reader;
  // a zero byte would end the text; the parser is fastest on a text that ends with one
  if (body.size() && std::memchr(RAW(body), 0, body.size())) return R_NilValue;
  std::string bytes(reinterpret_cast<const char*>(RAW(body)), body.size());
  rapidjson::InsituStringStream stream(&bytes[0]);
  const unsigned how = rapidjson::kParseInsituFlag | rapidjson::kParseFullPrecisionFlag |
                       rapidjson::kParseNanAndInfFlag;
  // plain ASCII is valid UTF-8
  char all = 0;
  for (char c : bytes) all |= c;
  bool plain = !(all & 0x80);
  bool read = plain ? static_cast<bool>(reader.Parse<how>(stream, handler))
                    : static_cast<bool>(reader.Parse<how | rapidjson::kParseValidateEncodingFlag>(
                          stream, handler));
  if (!read || !handler.found_rows) return R_NilValue;
  R_xlen_t width = handler.columns.size();
  List table(width);
  CharacterVector names(width);
  for (R_xlen_t k = 0; k < width; k++) {
    Column& column = handler.columns[k];
    SEXP read = R_NilValue;
    if (column.kind == texts &&
        std::find(instants.begin(), instants.end(), column.name) != instants.end())
      read = instants_of(column, handler.rows, handler.letters);
    table[k] = read != R_NilValue ? read : vector_of(column, handler.rows, handler.letters);
    names[k] = Rf_mkCharLenCE(column.name.data(), column.name.size(), CE_UTF8);
  }
  List out(pointers.size());
  if (handler.rows == 0) {
    out[0] = List(0);
  } else {
    if (map) {
      CharacterVector keys(handler.keys.size());
      for (size_t i = 0; i < handler.keys.size(); i++)
        keys[i] = Rf_mkCharLenCE(handler.keys[i].data(), handler.keys[i].size(), CE_UTF8);
      table.push_front(keys);
      names.push_front("key");
      table.attr("of_map") = true;
    }
    table.attr("names") = names;
    table.attr("class") = "data.frame";
    table.attr("row.names") = IntegerVector::create(NA_INTEGER, -static_cast<int>(handler.rows));
    out[0] = table;
  }
  for (size_t i = 0; i < handler.asked.size(); i++) out[i + 1] = value_of(handler.asked[i]);
  out.attr("names") = pointers.attr("names");
  return out;
}
