// Texts and rows as JSON, in the canonical form that the archive compares: quotes and backslashes
// are escaped, control characters are numbers, all else is unchanged.
#include <Rcpp.h>
#include <cstdio>
#include <string>
using namespace Rcpp;

namespace {

void add_quoted(std::string& out, const char* text, R_xlen_t n) {
  out += '"';
  for (R_xlen_t i = 0; i < n; ++i) {
    const char c = text[i];
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (static_cast<unsigned char>(c) < 0x20) {
      char number[8];
      std::snprintf(number, sizeof number, "\\u%04x", c);
      out += number;
    } else {
      out += c;
    }
  }
  out += '"';
}

void add_quoted(std::string& out, SEXP text) { add_quoted(out, CHAR(text), LENGTH(text)); }

SEXP utf8(const std::string& text) {
  return Rf_mkCharLenCE(text.data(), static_cast<int>(text.size()), CE_UTF8);
}

}  // namespace

// [[Rcpp::export]]
CharacterVector json_text_cpp(CharacterVector x) {
  CharacterVector out(x.size());
  std::string one;
  for (R_xlen_t i = 0; i < x.size(); ++i) {
    one.clear();
    add_quoted(one, STRING_ELT(x, i));
    SET_STRING_ELT(out, i, utf8(one));
  }
  return out;
}

// [[Rcpp::export]]
CharacterVector json_array_cpp(CharacterVector x) {
  std::string all = "[";
  for (R_xlen_t i = 0; i < x.size(); ++i) {
    if (i) all += ',';
    add_quoted(all, STRING_ELT(x, i));
  }
  all += ']';
  return CharacterVector(utf8(all));
}

// One object per row. A missing value (NA) is left out, or null with `nulls`; `quoted` marks text
// columns.
// [[Rcpp::export]]
CharacterVector record_texts_cpp(CharacterVector names, List columns, LogicalVector quoted,
                                 bool nulls) {
  const R_xlen_t n = columns.size() ? Rf_xlength(columns[0]) : 0, k = columns.size();
  std::vector<std::string> name(k);
  std::vector<const SEXP*> text(k);
  for (R_xlen_t c = 0; c < k; ++c) {
    add_quoted(name[c], STRING_ELT(names, c));
    name[c] += ':';
    const SEXP column = columns[c];
    if (TYPEOF(column) != STRSXP || Rf_xlength(column) != n) stop("columns of one length");
    text[c] = STRING_PTR(column);
  }
  CharacterVector out(n);
  std::string row;
  for (R_xlen_t i = 0; i < n; ++i) {
    row = '{';
    for (R_xlen_t c = 0; c < k; ++c) {
      const SEXP value = text[c][i];
      if (value == NA_STRING && !nulls) continue;
      if (row.size() > 1) row += ',';
      row += name[c];
      if (value == NA_STRING) row += "null";
      else if (quoted[c]) add_quoted(row, value);
      else row += CHAR(value);
    }
    row += '}';
    SET_STRING_ELT(out, i, utf8(row));
  }
  return out;
}
