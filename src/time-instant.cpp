// RFC 3339 instants in one pass over the text. A space in place of the T, no seconds, and no offset
// are accepted.
#include <Rcpp.h>

#include "doubles.h"
#include <cmath>
#include <cstring>

#include "time-instant.h"

using namespace Rcpp;

namespace {

// Days since 1970-01-01 of a Gregorian date, with years that begin in March.
int days_of(int year, int month, int day) {
  year -= month <= 2;
  const int era = (year >= 0 ? year : year - 399) / 400;
  const int of_era = year - era * 400;
  const int of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
  return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

int days_in(int year, int month) {
  static const int days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return month == 2 && leap ? 29 : days[month - 1];
}

// Reads exactly `n` digits; -1 otherwise.
int digits(const char*& p, const char* end, int n) {
  if (end - p < n) return -1;
  int value = 0;
  for (int i = 0; i < n; ++i) {
    if (p[i] < '0' || p[i] > '9') return -1;
    value = value * 10 + (p[i] - '0');
  }
  p += n;
  return value;
}

}  // namespace

double instant_of(const char* p, const char* end, bool& local) {
  local = false;
  const int year = digits(p, end, 4);
  if (year < 0 || p >= end || *p++ != '-') return NA_REAL;
  const int month = digits(p, end, 2);
  if (month < 1 || month > 12 || p >= end || *p++ != '-') return NA_REAL;
  const int day = digits(p, end, 2);
  if (day < 1 || day > days_in(year, month) || p >= end || (*p != 'T' && *p != 't' && *p != ' '))
    return NA_REAL;
  ++p;
  const int hour = digits(p, end, 2);
  if (hour < 0 || p >= end || *p++ != ':') return NA_REAL;
  const int minute = digits(p, end, 2);
  int second = 0;
  double part = 0;
  if (minute < 0) return NA_REAL;
  if (p < end && *p == ':') {
    ++p;
    second = digits(p, end, 2);
    if (second < 0) return NA_REAL;
    if (p < end && *p == '.') {
      const char* from = ++p;
      double scale = 0.1;
      while (p < end && *p >= '0' && *p <= '9') {
        part += (*p++ - '0') * scale;
        scale /= 10;
      }
      if (p == from || p - from > 9) return NA_REAL;
    }
  }
  // 24:00 is the end of a day and the latest time; a minute may have a leap second
  if (hour > 24 || minute > 59 || second > 60 ||
      (hour == 24 && (minute > 0 || second > 0 || part > 0)))
    return NA_REAL;
  double shift = 0;
  if (p == end) {
    local = true;
  } else if ((*p == 'Z' || *p == 'z') && p + 1 == end) {
  } else if (*p == '+' || *p == '-') {
    const double sign = *p++ == '-' ? -1 : 1;
    const int hours = digits(p, end, 2);
    if (p < end && *p == ':') ++p;
    const int minutes = digits(p, end, 2);
    if (hours < 0 || minutes < 0 || hours > 23 || minutes > 59 || p != end) return NA_REAL;
    shift = sign * (hours * 3600 + minutes * 60);
  } else {
    return NA_REAL;
  }
  const double whole =
      days_of(year, month, day) * 86400.0 + hour * 3600 + minute * 60 + second - shift;
  // rounded to whole microseconds
  return part == 0 ? whole : std::round((whole + part) * 1e6) / 1e6;
}

// [[Rcpp::export]]
List rfc3339_cpp(CharacterVector x) {
  const R_xlen_t n = x.size();
  NumericVector value(no_init(n));
  LogicalVector local(no_init(n));
  bool any_local = false;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const SEXP text = STRING_ELT(x, i);
    bool own = false;
    value[i] = NA_REAL;
    if (text != NA_STRING) {
      const char* p = CHAR(text);
      value[i] = instant_of(p, p + LENGTH(text), own);
    }
    local[i] = own;
    any_local = any_local || own;
  }
  return List::create(_["value"] = value, _["local"] = local, _["any_local"] = any_local);
}

// Days written as 2026-03-12, as days since 1970; missing for other texts.
// [[Rcpp::export]]
NumericVector days_cpp(CharacterVector x) {
  const R_xlen_t n = x.size();
  NumericVector value(no_init(n));
  for (R_xlen_t i = 0; i < n; ++i) {
    const SEXP text = STRING_ELT(x, i);
    value[i] = NA_REAL;
    if (text == NA_STRING || LENGTH(text) != 10) continue;
    const char* p = CHAR(text);
    const char* end = p + 10;
    const int year = digits(p, end, 4);
    if (year < 0 || *p++ != '-') continue;
    const int month = digits(p, end, 2);
    if (month < 1 || month > 12 || *p++ != '-') continue;
    const int day = digits(p, end, 2);
    if (day < 1 || day > days_in(year, month)) continue;
    value[i] = days_of(year, month, day);
  }
  return value;
}

// What seconds need to become instants: 0 nothing, 1 some are missing, 2 some are finer than a
// microsecond, 3 both.
// [[Rcpp::export]]
int instants_need_cpp(SEXP seconds_) {
  const Doubles seconds(seconds_);
  bool missing = false, finer = false;
  for (R_xlen_t i = 0; i < seconds.size(); ++i) {
    const double x = seconds[i];
    missing = missing || std::isnan(x);
    finer = finer || (x != std::floor(x) && x != std::nearbyint(x * 1e6) / 1e6 && !std::isnan(x));
  }
  return (missing ? 1 : 0) + (finer ? 2 : 0);
}
