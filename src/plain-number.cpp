// Decimal numbers written as text, to the double that is nearest. What other readers take for numbers too, such as 0x1F, inf or 5L, is none.
#include <Rcpp.h>
#include <cmath>
#include <cstdlib>
using namespace Rcpp;

namespace {

bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_blank(char c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; }

double number_of(const char* p, const char* end) {
  while (p < end && is_blank(*p)) ++p;
  while (end > p && is_blank(end[-1])) --end;
  const char* from = p;
  if (p < end && (*p == '+' || *p == '-')) ++p;
  const char* whole = p;
  while (p < end && is_digit(*p)) ++p;
  bool some = p > whole;
  if (p < end && *p == '.') {
    const char* part = ++p;
    while (p < end && is_digit(*p)) ++p;
    some = some || p > part;
  }
  if (!some) return NA_REAL;
  if (p < end && (*p == 'e' || *p == 'E')) {
    ++p;
    if (p < end && (*p == '+' || *p == '-')) ++p;
    const char* exponent = p;
    while (p < end && is_digit(*p)) ++p;
    if (p == exponent) return NA_REAL;
  }
  if (p != end) return NA_REAL;
  // the text of R's strings ends with a zero, and what may follow the number is blank
  const double value = std::strtod(from, nullptr);
  return std::isfinite(value) ? value : NA_REAL;
}

}  // namespace

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
