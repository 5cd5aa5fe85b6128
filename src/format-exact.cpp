// Numbers and instants as text: a number is the shortest text that reads back the same, without an
// exponent for common magnitudes; an instant is RFC 3339 in UTC.
#include <Rcpp.h>
#include <charconv>
#include <cmath>
#include <cstdio>
#include <cstring>
using namespace Rcpp;

namespace {

// Digits, exponent of ten and sign of a number, from its shortest scientific text.
struct Digits {
  char digits[24];
  int count = 0;
  int exponent = 0;
  bool negative = false;
  explicit Digits(double v) {
    char text[40];
    auto end = std::to_chars(text, text + sizeof text, v, std::chars_format::scientific).ptr;
    const char* p = text;
    if (*p == '-') {
      negative = true;
      p++;
    }
    for (; p < end && *p != 'e'; p++) {
      if (*p != '.') digits[count++] = *p;
    }
    // the exponent always has a sign
    p++;
    bool below = *p++ == '-';
    for (; p < end; p++) exponent = exponent * 10 + (*p - '0');
    if (below) exponent = -exponent;
  }
};

// Layout as %g: no exponent from 0.0001 up to 16 digits before the point.
int number_text(double v, char* text) {
  char* to = text;
  if (v == std::floor(v) && std::fabs(v) < 1e15) {
    return std::to_chars(text, text + 40, static_cast<int64_t>(v)).ptr - text;
  }
  Digits d(v);
  if (d.negative) *to++ = '-';
  if (d.exponent < -4 || d.exponent > 15) {
    *to++ = d.digits[0];
    if (d.count > 1) *to++ = '.';
    for (int i = 1; i < d.count; i++) *to++ = d.digits[i];
    to += std::snprintf(to, 8, "e%c%02d", d.exponent < 0 ? '-' : '+', std::abs(d.exponent));
    return to - text;
  }
  if (d.exponent < 0) {
    *to++ = '0';
    *to++ = '.';
    for (int i = -1; i > d.exponent; i--) *to++ = '0';
  }
  for (int i = 0; i < std::max(d.count, d.exponent + 1); i++) {
    if (i == d.exponent + 1 && d.exponent >= 0) *to++ = '.';
    *to++ = i < d.count ? d.digits[i] : '0';
  }
  return to - text;
}

// Writes a number with leading zeros.
char* padded(char* to, int64_t x, int width) {
  for (int i = width - 1; i >= 0; i--) {
    to[i] = static_cast<char>('0' + x % 10);
    x /= 10;
  }
  return to + width;
}

}  // namespace

// [[Rcpp::export]]
CharacterVector format_exact_cpp(NumericVector x) {
  const R_xlen_t n = x.size();
  CharacterVector out(n);
  char text[64];
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const double v = x[i];
    if (std::isnan(v)) {
      out[i] = NA_STRING;
    } else if (std::isinf(v)) {
      out[i] = v > 0 ? "Inf" : "-Inf";
    } else {
      out[i] = Rf_mkCharLenCE(text, number_text(v, text), CE_UTF8);
    }
  }
  return out;
}

// Whether 15 digits without an exponent reproduce every number.
// [[Rcpp::export]]
bool is_plain_cpp(NumericVector x) {
  for (double v : x) {
    if (std::isnan(v)) continue;
    const double size = std::fabs(v);
    if (v == std::floor(v) && size < 1e15) continue;
    // a whole number of millionths with at most 15 digits
    if (size >= 1e-4 && size < 1e9 && std::nearbyint(v * 1e6) / 1e6 == v) continue;
    if (!std::isfinite(v)) return false;
    Digits d(v);
    if (d.count > 15 || d.exponent < -4 || d.exponent > 14) return false;
  }
  return true;
}

// Seconds since 1970 as RFC 3339, with three or six digits of a fraction if there is one. R formats
// years of more than four digits.
// [[Rcpp::export]]
CharacterVector format_instants_cpp(NumericVector x) {
  const R_xlen_t n = x.size();
  CharacterVector out(n);
  char text[40];
  for (R_xlen_t i = 0; i < n; ++i) {
    if (!std::isfinite(x[i])) {
      out[i] = NA_STRING;
      continue;
    }
    double whole = std::floor(x[i]);
    int64_t micros = static_cast<int64_t>(std::nearbyint((x[i] - whole) * 1e6));
    if (micros == 1000000) {
      micros = 0;
      whole += 1;
    }
    int64_t day = static_cast<int64_t>(std::floor(whole / 86400));
    int64_t second = static_cast<int64_t>(whole) - day * 86400;
    // civil calendar in eras of 400 years from 1 March of the year 0
    int64_t z = day + 719468;
    int64_t era = (z >= 0 ? z : z - 146096) / 146097;
    int64_t of_era = z - era * 146097;
    int64_t year_of_era = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    int64_t of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    int64_t shifted = (5 * of_year + 2) / 153;
    int64_t month = shifted < 10 ? shifted + 3 : shifted - 9;
    int64_t year = year_of_era + era * 400 + (month <= 2);
    if (year < 0 || year > 9999) stop("a year beyond four digits");
    char* to = padded(text, year, 4);
    *to++ = '-';
    to = padded(to, month, 2);
    *to++ = '-';
    to = padded(to, of_year - (153 * shifted + 2) / 5 + 1, 2);
    *to++ = 'T';
    to = padded(to, second / 3600, 2);
    *to++ = ':';
    to = padded(to, second / 60 % 60, 2);
    *to++ = ':';
    to = padded(to, second % 60, 2);
    if (micros) {
      *to++ = '.';
      to = micros % 1000 ? padded(to, micros, 6) : padded(to, micros / 1000, 3);
    }
    *to++ = 'Z';
    out[i] = Rf_mkCharLenCE(text, to - text, CE_UTF8);
  }
  return out;
}
