// Decodes plain CSV lines in one pass: the right number of values, no quotation marks, ASCII;
// numbers are numbers and times have an offset. Other lines are left to the general reader.
#include <Rcpp.h>

#include <cmath>
#include <cstdint>
#include <cstring>
#include <string>
#include <vector>

#include "plain-number.h"
#include "time-instant.h"

using namespace Rcpp;

namespace {

enum Kind { text = 0, number = 1, instant = 2 };

class Absent {
 public:
  explicit Absent(CharacterVector words) {
    for (R_xlen_t i = 0; i < words.size(); i++) words_.emplace_back(CHAR(words[i]));
  }
  bool has(const char* p, const char* end) const {
    const size_t n = end - p;
    if (n == 0) return true;
    if (n > 4) return false;
    for (const std::string& word : words_)
      if (word.size() == n && std::memcmp(word.data(), p, n) == 0) return true;
    return false;
  }

 private:
  std::vector<std::string> words_;
};

// A column of texts. Texts of the previous line and of recent lines are reused, by their position
// in the piece.
class Texts {
 public:
  Texts() : met_(1024) {}
  void put(SEXP column, R_xlen_t row, const char* p, const char* end) {
    const size_t n = end - p;
    uint32_t hash = 2166136261u;
    for (const char* q = p; q < end; ++q)
      hash = (hash ^ static_cast<unsigned char>(*q)) * 16777619u;
    Met& met = met_[(hash ^ (hash >> 10)) % 1024];
    if (met.size != n || !met.text || std::memcmp(met.text, p, n) != 0) {
      met = {p, n, Rf_mkCharLenCE(p, static_cast<int>(n), CE_UTF8)};
    }
    SET_STRING_ELT(column, row, met.value);
  }

 private:
  struct Met {
    const char* text = nullptr;
    size_t size = 0;
    SEXP value = nullptr;
  };
  std::vector<Met> met_;
};

}  // namespace

// The columns of lines that end with a line feed, by kind (0 text, 1 number, 2 instant); NULL if a
// line is not plain. The first bytes may be skipped.
// [[Rcpp::export]]
SEXP table_columns_cpp(RawVector piece, std::string separator, IntegerVector kinds,
                       CharacterVector words, double skip = 0) {
  const char* p = reinterpret_cast<const char*>(RAW(piece)) + static_cast<R_xlen_t>(skip);
  const char* const stop = reinterpret_cast<const char*>(RAW(piece)) + piece.size();
  const char sign = separator[0];
  R_xlen_t lines = 0;
  for (const char* q = p; q < stop; ++q) {
    if (*q == '"' || *q == '\'' || *q == 0 || static_cast<unsigned char>(*q) >= 128)
      return R_NilValue;
    lines += *q == '\n';
  }
  if (lines == 0 || stop[-1] != '\n') return R_NilValue;
  const Absent absent(words);
  const R_xlen_t width = kinds.size();
  List columns(width);
  std::vector<double*> numbers(width, nullptr);
  std::vector<Texts> texts(width);
  for (R_xlen_t k = 0; k < width; k++) {
    columns[k] = Rf_allocVector(kinds[k] == text ? STRSXP : REALSXP, lines);
    if (kinds[k] != text) numbers[k] = REAL(columns[k]);
  }
  for (R_xlen_t row = 0; row < lines; row++) {
    const char* end = static_cast<const char*>(std::memchr(p, '\n', stop - p));
    const char* next = end + 1;
    if (end > p && end[-1] == '\r') --end;
    for (R_xlen_t k = 0; k < width; k++) {
      const char* cell = p;
      const char* edge = static_cast<const char*>(std::memchr(cell, sign, end - cell));
      if ((k + 1 < width) != (edge != nullptr)) return R_NilValue;
      if (!edge) edge = end;
      p = edge + 1;
      while (cell < edge && (*cell == ' ' || *cell == '\t')) ++cell;
      while (edge > cell && (edge[-1] == ' ' || edge[-1] == '\t')) --edge;
      const bool nothing = absent.has(cell, edge);
      if (kinds[k] == text) {
        if (nothing)
          SET_STRING_ELT(columns[k], row, NA_STRING);
        else
          texts[k].put(columns[k], row, cell, edge);
        continue;
      }
      double value = NA_REAL;
      if (!nothing) {
        bool local = false;
        value = kinds[k] == number ? number_of(cell, edge) : instant_of(cell, edge, local);
        if (local || std::isnan(value)) return R_NilValue;
      }
      numbers[k][row] = value;
    }
    p = next;
  }
  for (R_xlen_t k = 0; k < width; k++) {
    if (kinds[k] != instant) continue;
    Rf_setAttrib(columns[k], R_ClassSymbol, CharacterVector::create("POSIXct", "POSIXt"));
    Rf_setAttrib(columns[k], Rf_install("tzone"), CharacterVector::create("UTC"));
  }
  return columns;
}

// The columns with a value in quotation marks; with `head` the first line has the names.
// [[Rcpp::export]]
LogicalVector quoted_columns_cpp(RawVector piece, std::string separator, int width,
                                 bool head) {
  const char* p = reinterpret_cast<const char*>(RAW(piece));
  const char* const stop = p + piece.size();
  const char sign = separator[0];
  LogicalVector quoted(width);
  if (!std::memchr(p, '"', piece.size())) return quoted;
  int column = 0;
  bool first_line = head, fresh = true, inside = false;
  for (; p < stop; ++p) {
    if (inside) {
      if (*p == '"') {
        if (p + 1 < stop && p[1] == '"')
          ++p;
        else
          inside = false;
      }
      continue;
    }
    if (*p == '"' && fresh) {
      inside = true;
      fresh = false;
      // an empty quoted value is missing
      const bool empty = p + 1 < stop && p[1] == '"' && !(p + 2 < stop && p[2] == '"');
      if (!first_line && !empty && column < width) quoted[column] = true;
    } else if (*p == sign) {
      ++column;
      fresh = true;
    } else if (*p == '\n') {
      column = 0;
      fresh = true;
      first_line = false;
    } else if (*p != ' ' && *p != '\t') {
      fresh = false;
    }
  }
  return quoted;
}

// The bytes from one position to another, both from 1.
// [[Rcpp::export]]
RawVector bytes_between_cpp(RawVector bytes, double from, double to) {
  const R_xlen_t first = static_cast<R_xlen_t>(from) - 1;
  const R_xlen_t size = static_cast<R_xlen_t>(to) - first;
  if (first < 0 || to > static_cast<double>(bytes.size())) stop("there are no such bytes");
  RawVector part(size > 0 ? size : 0);
  if (size > 0) std::memcpy(RAW(part), RAW(bytes) + first, static_cast<size_t>(size));
  return part;
}
