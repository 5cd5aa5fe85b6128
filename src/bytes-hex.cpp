// Bytes as hexadecimal text for PostgreSQL (PostgreSQL, 8.4.1, bytea hex format).
#include <Rcpp.h>

#include <string>

// One text per element; NA for NULL.
// [[Rcpp::export]]
Rcpp::CharacterVector bytes_hex_cpp(Rcpp::List pieces) {
  static const char digits[] = "0123456789abcdef";
  Rcpp::CharacterVector out(pieces.size());
  std::string text;
  for (R_xlen_t i = 0; i < pieces.size(); i++) {
    if (TYPEOF(pieces[i]) != RAWSXP) {
      out[i] = NA_STRING;
      continue;
    }
    Rcpp::RawVector bytes = pieces[i];
    text.assign(2 * bytes.size() + 2, '\\');
    text[1] = 'x';
    for (R_xlen_t j = 0; j < bytes.size(); j++) {
      text[2 * j + 2] = digits[bytes[j] >> 4];
      text[2 * j + 3] = digits[bytes[j] & 15];
    }
    out[i] = Rf_mkCharLenCE(text.data(), text.size(), CE_UTF8);
  }
  return out;
}
