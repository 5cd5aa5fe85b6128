// Checksums of rows: of each series and stretch of time the sum, modulo 2^64, of a hash a row. The
// column store computes the same by its intHash64: a row is the hash of the sum of its cells, and a
// cell the hash of its bits and of its column's number. Missing cells count nothing.
#include <Rcpp.h>

#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <limits>
#include <map>
#include <string>
#include <utility>
#include <vector>

namespace {

inline uint64_t int_hash64(uint64_t x) {
  x ^= 0x4CF2D2BAAE6DA887ULL;
  x ^= x >> 33;
  x *= 0xff51afd7ed558ccdULL;
  x ^= x >> 33;
  x *= 0xc4ceb9fe1a85ec53ULL;
  return x ^ (x >> 33);
}

// The first eight bytes of a digest in hexadecimal digits, the lowest first.
uint64_t digest_word(const char* hex) {
  uint64_t word = 0;
  for (int i = 7; i >= 0; i--) {
    const char pair[3] = {hex[2 * i], hex[2 * i + 1], 0};
    word = (word << 8) | std::strtoul(pair, nullptr, 16);
  }
  return word;
}

uint64_t number_of(SEXP text) { return std::strtoull(CHAR(text), nullptr, 10); }

struct RowsSum {
  double rows = 0;
  uint64_t sum = 0;
};

void add_numbers(std::vector<uint64_t>& cells, SEXP values, bool instants, uint64_t salt) {
  const double* x = REAL(values);
  for (size_t i = 0; i < cells.size(); i++) {
    if (std::isnan(x[i])) continue;
    uint64_t word;
    if (instants) {
      word = static_cast<uint64_t>(static_cast<int64_t>(std::llround(x[i] * 1e6)));
    } else {
      std::memcpy(&word, x + i, 8);
    }
    cells[i] += int_hash64(word ^ salt);
  }
}

}  // namespace

// `columns` are numbers, or texts as list(code, md5); `kinds` are "instant", "number" or "text",
// `salts` the numbers of the columns. Returns series, part, rows and sum (as decimal text).
// [[Rcpp::export]]
Rcpp::List row_sums_cpp(Rcpp::NumericVector series, Rcpp::NumericVector part, Rcpp::List columns,
                        Rcpp::CharacterVector kinds, Rcpp::CharacterVector salts) {
  const size_t n = series.size();
  std::vector<uint64_t> cells(n, 0);
  for (R_xlen_t k = 0; k < columns.size(); k++) {
    const uint64_t salt = number_of(salts[k]);
    const std::string kind = Rcpp::as<std::string>(kinds[k]);
    if (kind != "text") {
      add_numbers(cells, columns[k], kind == "instant", salt);
      continue;
    }
    Rcpp::List text = columns[k];
    Rcpp::IntegerVector code = text[0];
    Rcpp::CharacterVector md5 = text[1];
    std::vector<uint64_t> hashes(md5.size());
    for (R_xlen_t i = 0; i < md5.size(); i++) {
      hashes[i] = int_hash64(digest_word(CHAR(md5[i])) ^ salt);
    }
    for (size_t i = 0; i < n; i++) {
      if (code[i] != NA_INTEGER) cells[i] += hashes[code[i] - 1];
    }
  }
  std::map<std::pair<double, double>, RowsSum> groups;
  RowsSum* last = nullptr;
  std::pair<double, double> key(0, 0);
  for (size_t i = 0; i < n; i++) {
    if (!last || key.first != series[i] || key.second != part[i]) {
      key = std::make_pair(series[i], part[i]);
      last = &groups[key];
    }
    last->rows += 1;
    last->sum += int_hash64(cells[i]);
  }
  Rcpp::NumericVector of(groups.size()), where(groups.size()), rows(groups.size());
  Rcpp::CharacterVector sums(groups.size());
  R_xlen_t at = 0;
  for (const auto& group : groups) {
    of[at] = group.first.first;
    where[at] = group.first.second;
    rows[at] = group.second.rows;
    sums[at++] = std::to_string(group.second.sum);
  }
  return Rcpp::List::create(Rcpp::Named("series") = of, Rcpp::Named("part") = where,
                            Rcpp::Named("rows") = rows, Rcpp::Named("sum") = sums);
}

// Sums as decimal texts: those of `x` and `y`, or without those of `y`.
// [[Rcpp::export]]
Rcpp::CharacterVector sums_joined_cpp(Rcpp::CharacterVector x, Rcpp::CharacterVector y,
                                      bool without) {
  Rcpp::CharacterVector out(x.size());
  for (R_xlen_t i = 0; i < x.size(); i++) {
    const uint64_t a = number_of(x[i]), b = number_of(y[i]);
    out[i] = std::to_string(without ? a - b : a + b);
  }
  return out;
}
