// Numbers of groups, from 1 in the order in which they first come. Equal texts are one object in R,
// so that objects are compared.
#include <Rcpp.h>

#include "doubles.h"
#include <algorithm>
#include <cmath>
#include <cstring>
#include <unordered_map>
#include <vector>
using namespace Rcpp;

// [[Rcpp::export]]
List groups_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  IntegerVector out(no_init(n));
  std::vector<double> first;
  std::unordered_map<SEXP, int> seen;
  SEXP x = text, last = nullptr;
  int current = 0;
  int* o = out.begin();
  const SEXP* p = STRING_PTR(x);
  for (R_xlen_t i = 0; i < n; ++i) {
    if (p[i] != last) {
      last = p[i];
      auto found = seen.find(last);
      if (found == seen.end()) {
        current = static_cast<int>(seen.size()) + 1;
        seen.emplace(last, current);
        first.push_back(static_cast<double>(i + 1));
      } else {
        current = found->second;
      }
    }
    o[i] = current;
  }
  return List::create(_["id"] = out, _["first"] = wrap(first));
}

// Where runs of one text begin, from 1.
// [[Rcpp::export]]
IntegerVector runs_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  std::vector<int> first;
  for (R_xlen_t i = 0; i < n; ++i) {
    if (i == 0 || p[i] != p[i - 1]) first.push_back(static_cast<int>(i + 1));
  }
  return wrap(first);
}

// The first text that is not among these few words, from 1; 0 where there is none.
// [[Rcpp::export]]
double first_outside_cpp(CharacterVector text, CharacterVector words) {
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  SEXP last = nullptr;
  for (R_xlen_t i = 0; i < text.size(); ++i) {
    if (p[i] == last) continue;
    last = p[i];
    bool found = false;
    for (R_xlen_t w = 0; w < words.size() && !found; ++w) found = STRING_ELT(words, w) == last;
    if (!found) return static_cast<double>(i + 1);
  }
  return 0;
}

// Whether rows stand in the order of text (its bytes) and time already, seen without numbers of
// groups. False also where that cannot be told so: texts of mixed encodings, no text, no time.
// [[Rcpp::export]]
bool stands_ordered_cpp(CharacterVector text, SEXP time_) {
  const Doubles time(time_);
  const R_xlen_t n = time.size();
  const SEXP* p = STRING_PTR(static_cast<SEXP>(text));
  for (R_xlen_t i = 0; i < n; ++i) {
    if (std::isnan(time[i])) return false;
    if (i > 0 && p[i] == p[i - 1]) {
      if (time[i] < time[i - 1]) return false;
      continue;
    }
    if (p[i] == NA_STRING) return false;
    if (Rf_getCharCE(p[i]) != CE_UTF8) {
      const char* s = CHAR(p[i]);
      if (std::any_of(s, s + LENGTH(p[i]), [](char c) { return (c & 0x80) != 0; })) return false;
    }
    if (i > 0 && std::strcmp(CHAR(p[i - 1]), CHAR(p[i])) >= 0) return false;
  }
  return true;
}

// Whether the times of each group of rows rise, without one that is missing.
// [[Rcpp::export]]
LogicalVector groups_rise_cpp(SEXP time_, List groups) {
  const Doubles time(time_);
  LogicalVector out(groups.size());
  for (R_xlen_t g = 0; g < groups.size(); ++g) {
    const IntegerVector rows = groups[g];
    bool rises = rows.size() > 0 && !std::isnan(time[rows[0] - 1]);
    for (R_xlen_t i = 1; i < rows.size() && rises; ++i) {
      rises = time[rows[i] - 1] > time[rows[i - 1] - 1];
    }
    out[g] = rises;
  }
  return out;
}
