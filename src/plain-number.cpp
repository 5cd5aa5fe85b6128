// Decimal text to the nearest double. Forms that other readers accept, such as 0x1F, inf or 5L, are
// not numbers here.
#include "plain-number.h"

#include <Rcpp.h>

#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <string>

using namespace Rcpp;

namespace {

const double tens[] = {1,    1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                       1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};
const int most_digits = 15;
const int most_tens = 22;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_blank(char c) {
  return c == ' ' || c == '\t' || c == '\r' || c == '\n';
}

}  // namespace

double number_of(const char* p, const char* end) {
  while (p < end && is_blank(*p)) ++p;
  while (end > p && is_blank(end[-1])) --end;
  const char* from = p;
  const bool negative = p < end && *p == '-';
  if (p < end && (*p == '+' || *p == '-')) ++p;
  uint64_t digits = 0;
  int count = 0;
  auto take = [&](char c) {
    digits = digits * 10 + static_cast<uint64_t>(c - '0');
    if (digits) ++count;
  };
  const char* whole = p;
  for (; p < end && is_digit(*p); ++p) take(*p);
  bool some = p > whole;
  long decimals = 0;
  if (p < end && *p == '.') {
    const char* part = ++p;
    for (; p < end && is_digit(*p); ++p) take(*p);
    decimals = p - part;
    some = some || decimals > 0;
  }
  if (!some) return NA_REAL;
  const bool plain = p == end;
  if (p < end && (*p == 'e' || *p == 'E')) {
    ++p;
    if (p < end && (*p == '+' || *p == '-')) ++p;
    const char* exponent = p;
    while (p < end && is_digit(*p)) ++p;
    if (p == exponent) return NA_REAL;
  }
  if (p != end) return NA_REAL;
  // the whole number and the power of ten are exact doubles, so one division rounds once
  if (plain && count <= most_digits && decimals <= most_tens) {
    const double value = static_cast<double>(digits) / tens[decimals];
    return negative ? -value : value;
  }
  const double value = std::strtod(std::string(from, end).c_str(), nullptr);
  return std::isfinite(value) ? value : NA_REAL;
}

// [[Rcpp::export]]
NumericVector plain_number_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  NumericVector out(no_init(n));
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const SEXP one = STRING_ELT(text, i);
    out[i] = one == NA_STRING ? NA_REAL : number_of(CHAR(one), CHAR(one) + LENGTH(one));
  }
  return out;
}
