// A hash of the columns of a table: XXH64 (64 bits, seed 0) over the bytes of its numbers and
// texts, column by column.
#include <Rcpp.h>
#include <cstring>
#include <unordered_map>
using namespace Rcpp;

namespace {

const uint64_t prime1 = 11400714785074694791ULL, prime2 = 14029467366897019727ULL,
               prime3 = 1609587929392839161ULL, prime4 = 9650029242287828579ULL,
               prime5 = 2870177450012600261ULL;

inline uint64_t rotate(uint64_t x, int r) { return (x << r) | (x >> (64 - r)); }
inline uint64_t eight(const uint8_t* p) {
  uint64_t x;
  std::memcpy(&x, p, 8);
  return x;
}
inline uint32_t four(const uint8_t* p) {
  uint32_t x;
  std::memcpy(&x, p, 4);
  return x;
}
inline uint64_t round_of(uint64_t lane, uint64_t x) {
  return rotate(lane + x * prime2, 31) * prime1;
}
inline uint64_t merged(uint64_t hash, uint64_t lane) {
  return (hash ^ round_of(0, lane)) * prime1 + prime4;
}

uint64_t xxh64(const void* bytes, size_t n, uint64_t seed) {
  const uint8_t* p = static_cast<const uint8_t*>(bytes);
  const uint8_t* end = p + n;
  uint64_t hash;
  if (n >= 32) {
    uint64_t a = seed + prime1 + prime2, b = seed + prime2, c = seed, d = seed - prime1;
    for (; p + 32 <= end; p += 32) {
      a = round_of(a, eight(p));
      b = round_of(b, eight(p + 8));
      c = round_of(c, eight(p + 16));
      d = round_of(d, eight(p + 24));
    }
    hash = rotate(a, 1) + rotate(b, 7) + rotate(c, 12) + rotate(d, 18);
    hash = merged(merged(merged(merged(hash, a), b), c), d);
  } else {
    hash = seed + prime5;
  }
  hash += n;
  for (; p + 8 <= end; p += 8) hash = rotate(hash ^ round_of(0, eight(p)), 27) * prime1 + prime4;
  if (p + 4 <= end) {
    hash = rotate(hash ^ (four(p) * prime1), 23) * prime2 + prime3;
    p += 4;
  }
  for (; p < end; p++) hash = rotate(hash ^ (*p * prime5), 11) * prime1;
  hash = (hash ^ (hash >> 33)) * prime2;
  hash = (hash ^ (hash >> 29)) * prime3;
  return hash ^ (hash >> 32);
}

// Texts as runs of equal ones: the hash of each, which is computed once, and its count. R keeps
// equal texts at one address.
uint64_t texts_hash(SEXP column, uint64_t seed) {
  const R_xlen_t n = Rf_xlength(column);
  const SEXP* texts = STRING_PTR_RO(column);
  std::unordered_map<SEXP, uint64_t> known;
  std::vector<uint64_t> runs;
  for (R_xlen_t i = 0; i < n;) {
    SEXP one = texts[i];
    R_xlen_t end = i + 1;
    while (end < n && texts[end] == one) end++;
    auto found = known.find(one);
    if (found == known.end()) {
      const uint64_t hash = one == NA_STRING ? 0 : xxh64(CHAR(one), LENGTH(one), 1);
      found = known.emplace(one, hash).first;
    }
    runs.push_back(found->second);
    runs.push_back(static_cast<uint64_t>(end - i));
    i = end;
  }
  return xxh64(runs.data(), runs.size() * 8, seed);
}

}  // namespace

// The hash of columns with their names as 16 characters; numbers as doubles.
// [[Rcpp::export]]
std::string columns_hash_cpp(List columns, CharacterVector names) {
  uint64_t hash = 0;
  for (R_xlen_t i = 0; i < columns.size(); i++) {
    SEXP column = columns[i];
    const char* name = CHAR(STRING_ELT(names, i));
    hash = xxh64(name, std::strlen(name), hash);
    if (TYPEOF(column) == REALSXP) {
      hash = xxh64(REAL(column), Rf_xlength(column) * 8, hash);
    } else if (TYPEOF(column) == STRSXP) {
      hash = texts_hash(column, hash);
    } else if (TYPEOF(column) == INTSXP || TYPEOF(column) == LGLSXP) {
      NumericVector numbers = as<NumericVector>(column);
      hash = xxh64(numbers.begin(), numbers.size() * 8, hash);
    }
  }
  char text[17];
  std::snprintf(text, sizeof text, "%016llx", static_cast<unsigned long long>(hash));
  return text;
}
