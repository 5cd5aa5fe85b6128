// A hash of the columns of a table: XXH64 (64 bits, seed 0) of the hashes of its names and
// columns, in order. Numbers are hashed as doubles, texts as runs of equal ones. The columns of a
// large table are divided between two threads.
#include <Rcpp.h>
#include <atomic>
#include <cstring>
#include <system_error>
#include <thread>
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

uint64_t mixed(uint64_t hash) {
  hash = (hash ^ (hash >> 33)) * prime2;
  hash = (hash ^ (hash >> 29)) * prime3;
  return hash ^ (hash >> 32);
}

// Of n words of eight bytes, which `word` gives by their index, and the state for the bytes behind.
template <class Word>
uint64_t words_hashed(size_t n, size_t bytes, Word word) {
  size_t i = 0;
  uint64_t hash = prime5;
  if (n >= 4) {
    uint64_t a = prime1 + prime2, b = prime2, c = 0, d = 0 - prime1;
    for (; i + 4 <= n; i += 4) {
      a = round_of(a, word(i));
      b = round_of(b, word(i + 1));
      c = round_of(c, word(i + 2));
      d = round_of(d, word(i + 3));
    }
    hash = rotate(a, 1) + rotate(b, 7) + rotate(c, 12) + rotate(d, 18);
    hash = merged(merged(merged(merged(hash, a), b), c), d);
  }
  hash += bytes;
  for (; i < n; i++) hash = rotate(hash ^ round_of(0, word(i)), 27) * prime1 + prime4;
  return hash;
}

uint64_t doubles_hash(const double* x, size_t n) {
  return mixed(words_hashed(n, 8 * n, [=](size_t i) {
    uint64_t word;
    std::memcpy(&word, x + i, 8);
    return word;
  }));
}

uint64_t integers_hash(const int* x, size_t n) {
  return mixed(words_hashed(n, 8 * n, [=](size_t i) {
    const double number = x[i] == NA_INTEGER ? NA_REAL : x[i];
    uint64_t word;
    std::memcpy(&word, &number, 8);
    return word;
  }));
}

uint64_t bytes_hash(const char* text, size_t n) {
  const uint8_t* p = reinterpret_cast<const uint8_t*>(text);
  uint64_t hash = words_hashed(n / 8, n, [=](size_t i) { return eight(p + 8 * i); });
  const uint8_t* end = p + n;
  p += n / 8 * 8;
  if (p + 4 <= end) {
    hash = rotate(hash ^ (four(p) * prime1), 23) * prime2 + prime3;
    p += 4;
  }
  for (; p < end; p++) hash = rotate(hash ^ (*p * prime5), 11) * prime1;
  return mixed(hash);
}

uint64_t words_hash(const std::vector<uint64_t>& x) {
  return mixed(words_hashed(x.size(), 8 * x.size(), [&](size_t i) { return x[i]; }));
}

inline bool eight_are(const SEXP* texts, SEXP one) {
  uintptr_t other = 0;
  for (int k = 0; k < 8; k++) {
    other |= reinterpret_cast<uintptr_t>(texts[k]) ^ reinterpret_cast<uintptr_t>(one);
  }
  return other == 0;
}

// Texts as runs of equal ones: the hash of each, which is computed once, and its count. R keeps
// equal texts at one address.
uint64_t texts_hash(SEXP column) {
  const R_xlen_t n = Rf_xlength(column);
  const SEXP* texts = STRING_PTR_RO(column);
  std::unordered_map<SEXP, uint64_t> known;
  std::vector<uint64_t> runs;
  for (R_xlen_t i = 0; i < n;) {
    SEXP one = texts[i];
    R_xlen_t end = i + 1;
    while (end + 8 <= n && eight_are(texts + end, one)) end += 8;
    while (end < n && texts[end] == one) end++;
    auto found = known.find(one);
    if (found == known.end()) {
      const uint64_t hash = one == NA_STRING ? 0 : bytes_hash(CHAR(one), LENGTH(one));
      found = known.emplace(one, hash).first;
    }
    runs.push_back(found->second);
    runs.push_back(static_cast<uint64_t>(end - i));
    i = end;
  }
  return words_hash(runs);
}

// A column of numbers; without R's functions, so that any thread may hash it.
struct Numbers {
  const double* doubles;
  const int* integers;
  size_t n;
  uint64_t* hash;
  void operator()() const {
    *hash = doubles ? doubles_hash(doubles, n) : integers_hash(integers, n);
  }
};

// A thread that is over before what it works on.
struct Joined {
  std::thread thread;
  void join() {
    if (thread.joinable()) thread.join();
  }
  ~Joined() { join(); }
};

// So many values of numbers are worth a thread.
const size_t threaded = 100000;

}  // namespace

// The hash of columns with their names as 16 characters.
// [[Rcpp::export]]
std::string columns_hash_cpp(List columns, CharacterVector names) {
  const R_xlen_t n = columns.size();
  std::vector<uint64_t> hashes(2 * n, 0);
  std::vector<Numbers> numbers;
  size_t values = 0;
  for (R_xlen_t i = 0; i < n; i++) {
    SEXP column = columns[i], name = STRING_ELT(names, i);
    hashes[2 * i] = bytes_hash(CHAR(name), LENGTH(name));
    const size_t rows = Rf_xlength(column);
    uint64_t* hash = &hashes[2 * i + 1];
    if (TYPEOF(column) == REALSXP) {
      numbers.push_back({REAL(column), nullptr, rows, hash});
    } else if (TYPEOF(column) == INTSXP || TYPEOF(column) == LGLSXP) {
      const int* x = TYPEOF(column) == INTSXP ? INTEGER(column) : LOGICAL(column);
      numbers.push_back({nullptr, x, rows, hash});
    } else {
      continue;
    }
    values += rows;
  }
  std::atomic<size_t> next(0);
  auto work = [&]() {
    for (size_t i; (i = next++) < numbers.size();) numbers[i]();
  };
  Joined other;
  if (values >= threaded) {
    try {
      other.thread = std::thread(work);
    } catch (const std::system_error&) {
      // no thread is free: this one does it all
    }
  }
  for (R_xlen_t i = 0; i < n; i++) {
    SEXP column = columns[i];
    if (TYPEOF(column) == STRSXP) hashes[2 * i + 1] = texts_hash(column);
  }
  work();
  other.join();
  char text[17];
  std::snprintf(text, sizeof text, "%016llx", static_cast<unsigned long long>(words_hash(hashes)));
  return text;
}
