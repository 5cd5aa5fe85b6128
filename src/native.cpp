// Columns in the Native format of the column store: blocks with the number of columns and rows, and
// per column its name, type and values. Source: ClickHouse documentation, Formats for input and
// output data, Native.
#include <Rcpp.h>

#include <cmath>
#include <cstdint>
#include <cstring>
#include <limits>
#include <string>
#include <vector>

namespace {

const int64_t no_micros = std::numeric_limits<int64_t>::min();

// writing

class Out {
 public:
  void bytes(const void* from, size_t count) {
    const char* at = static_cast<const char*>(from);
    data.insert(data.end(), at, at + count);
  }
  void count(uint64_t value) {
    while (value >= 0x80) {
      data.push_back(static_cast<char>(value | 0x80));
      value >>= 7;
    }
    data.push_back(static_cast<char>(value));
  }
  void text(const char* from, size_t length) {
    count(length);
    bytes(from, length);
  }
  void text(const std::string& value) { text(value.data(), value.size()); }
  std::vector<char> data;
};

void write_numbers(Out& out, const std::string& type, Rcpp::NumericVector values) {
  const size_t n = values.size();
  if (type == "Float64") {
    if (n) out.bytes(&values[0], 8 * n);
    return;
  }
  // seconds to whole microseconds
  const bool micros = type == "Int64";
  const size_t size = type == "UInt8" ? 1 : type == "UInt32" ? 4 : 8;
  const size_t from = out.data.size();
  out.data.resize(from + size * n);
  for (size_t i = 0; i < n; i++) {
    const double value = values[i];
    char* at = out.data.data() + from + size * i;
    if (micros) {
      const int64_t whole =
          std::isnan(value) ? no_micros : static_cast<int64_t>(std::llround(value * 1e6));
      std::memcpy(at, &whole, 8);
    } else if (size == 8) {
      const uint64_t whole = static_cast<uint64_t>(value);
      std::memcpy(at, &whole, 8);
    } else if (size == 4) {
      const uint32_t whole = static_cast<uint32_t>(value);
      std::memcpy(at, &whole, 4);
    } else {
      *at = static_cast<char>(value);
    }
  }
}

void write_texts(Out& out, SEXP values) {
  const R_xlen_t n = XLENGTH(values);
  for (R_xlen_t i = 0; i < n; i++) out.data.push_back(STRING_ELT(values, i) == NA_STRING);
  for (R_xlen_t i = 0; i < n; i++) {
    SEXP one = STRING_ELT(values, i);
    if (one == NA_STRING) {
      out.count(0);
    } else {
      const char* text = Rf_translateCharUTF8(one);
      out.text(text, std::strlen(text));
    }
  }
}

// reading

class In {
 public:
  In(const uint8_t* from, size_t length) : at(from), end(from + length) {}
  bool more() const { return at < end; }
  const uint8_t* take(size_t count) {
    if (count > static_cast<size_t>(end - at)) Rcpp::stop("the answer is cut off");
    const uint8_t* from = at;
    at += count;
    return from;
  }
  uint64_t count() {
    uint64_t value = 0;
    for (int shift = 0; shift < 64; shift += 7) {
      const uint8_t byte = *take(1);
      value |= static_cast<uint64_t>(byte & 0x7f) << shift;
      if (!(byte & 0x80)) return value;
    }
    Rcpp::stop("the answer cannot be read");
  }
  std::string text() {
    const size_t length = count();
    const uint8_t* from = take(length);
    return std::string(reinterpret_cast<const char*>(from), length);
  }

 private:
  const uint8_t* at;
  const uint8_t* end;
};

// A column collected over all blocks.
struct NativeColumn {
  std::string name;
  bool texts = false;
  std::vector<double> numbers;
  std::vector<SEXP> words;
};

template <typename Value>
void read_numbers(In& in, size_t rows, std::vector<double>& into, double scale = 0) {
  const uint8_t* from = in.take(rows * sizeof(Value));
  const size_t before = into.size();
  into.resize(before + rows);
  for (size_t i = 0; i < rows; i++) {
    Value value;
    std::memcpy(&value, from + i * sizeof(Value), sizeof(Value));
    into[before + i] = scale > 0 ? static_cast<double>(value) / scale : static_cast<double>(value);
  }
}

void read_micros(In& in, size_t rows, std::vector<double>& into) {
  const size_t before = into.size();
  read_numbers<int64_t>(in, rows, into, 1e6);
  const double none = static_cast<double>(no_micros) / 1e6;
  for (size_t i = before; i < into.size(); i++) {
    if (into[i] == none) into[i] = NA_REAL;
  }
}

void read_doubles(In& in, size_t rows, std::vector<double>& into) {
  const uint8_t* from = in.take(rows * 8);
  const size_t before = into.size();
  into.resize(before + rows);
  if (rows) std::memcpy(into.data() + before, from, rows * 8);
  for (size_t i = before; i < into.size(); i++) {
    if (std::isnan(into[i])) into[i] = NA_REAL;
  }
}

void read_words(In& in, size_t rows, bool nullable, std::vector<SEXP>& into, Rcpp::List& kept) {
  const uint8_t* none = nullable ? in.take(rows) : nullptr;
  // a text often repeats the previous one
  const uint8_t* last = nullptr;
  size_t last_length = 0;
  SEXP last_word = R_NilValue;
  Rcpp::CharacterVector held(rows);
  for (size_t i = 0; i < rows; i++) {
    const size_t length = in.count();
    const uint8_t* from = in.take(length);
    SEXP word;
    if (none && none[i]) {
      word = NA_STRING;
    } else if (last && length == last_length && !std::memcmp(last, from, length)) {
      word = last_word;
    } else {
      word = Rf_mkCharLenCE(reinterpret_cast<const char*>(from), length, CE_UTF8);
      last = from;
      last_length = length;
      last_word = word;
    }
    held[i] = word;
    into.push_back(word);
  }
  kept.push_back(held);
}

void read_column(In& in, const std::string& type, size_t rows, NativeColumn& into,
                 Rcpp::List& kept) {
  if (type == "Float64") {
    read_doubles(in, rows, into.numbers);
  } else if (type == "Int64") {
    read_micros(in, rows, into.numbers);
  } else if (type == "UInt64") {
    read_numbers<uint64_t>(in, rows, into.numbers);
  } else if (type == "Int32") {
    read_numbers<int32_t>(in, rows, into.numbers);
  } else if (type == "UInt32") {
    read_numbers<uint32_t>(in, rows, into.numbers);
  } else if (type == "UInt16") {
    read_numbers<uint16_t>(in, rows, into.numbers);
  } else if (type == "UInt8") {
    read_numbers<uint8_t>(in, rows, into.numbers);
  } else if (type == "String" || type == "Nullable(String)") {
    into.texts = true;
    read_words(in, rows, type != "String", into.words, kept);
  } else {
    Rcpp::stop("the answer has a column of the type %s", type);
  }
}

}  // namespace

// Encodes one block: Int64 from seconds as microseconds; UInt8, UInt32, UInt64 and Float64 from
// numbers; Nullable(String) from texts.
// [[Rcpp::export]]
Rcpp::RawVector native_write_cpp(Rcpp::List columns, Rcpp::CharacterVector names,
                                 Rcpp::CharacterVector types) {
  Out out;
  const size_t rows = columns.size() ? Rf_xlength(columns[0]) : 0;
  out.count(columns.size());
  out.count(rows);
  for (R_xlen_t i = 0; i < columns.size(); i++) {
    const std::string type = Rcpp::as<std::string>(types[i]);
    out.text(Rcpp::as<std::string>(names[i]));
    out.text(type);
    if (static_cast<size_t>(Rf_xlength(columns[i])) != rows) Rcpp::stop("columns differ in length");
    if (type == "Nullable(String)") {
      write_texts(out, columns[i]);
    } else {
      write_numbers(out, type, columns[i]);
    }
  }
  Rcpp::RawVector result(out.data.size());
  if (!out.data.empty()) std::memcpy(&result[0], out.data.data(), out.data.size());
  return result;
}

// Decodes all blocks of an answer to one list of columns. Int64 are microseconds and become
// seconds; NaN is missing.
// [[Rcpp::export]]
Rcpp::List native_read_cpp(Rcpp::RawVector answer) {
  In in(reinterpret_cast<const uint8_t*>(answer.size() ? &answer[0] : nullptr), answer.size());
  std::vector<NativeColumn> columns;
  Rcpp::List kept;
  while (in.more()) {
    const size_t count = in.count();
    const size_t rows = in.count();
    if (columns.empty()) columns.resize(count);
    if (columns.size() != count) Rcpp::stop("the answer cannot be read");
    for (size_t i = 0; i < count; i++) {
      columns[i].name = in.text();
      const std::string type = in.text();
      read_column(in, type, rows, columns[i], kept);
    }
  }
  Rcpp::List result(columns.size());
  Rcpp::CharacterVector names(columns.size());
  for (size_t i = 0; i < columns.size(); i++) {
    names[i] = columns[i].name;
    if (columns[i].texts) {
      Rcpp::CharacterVector words(columns[i].words.size());
      for (size_t j = 0; j < columns[i].words.size(); j++) words[j] = columns[i].words[j];
      result[i] = words;
    } else {
      result[i] = Rcpp::wrap(columns[i].numbers);
    }
  }
  result.names() = names;
  return result;
}
