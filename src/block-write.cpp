// Encodes the columns of a table as a block: see docs/blocks.md.
#include <Rcpp.h>
#ifdef __x86_64__
#include <emmintrin.h>
#endif

#include <cmath>
#include <unordered_map>

#include "block.h"

using namespace Rcpp;
using namespace block;

namespace {

const int most_digits = 9;
const double largest = 9007199254740991.0;

bool same_bits(double a, double b) {
  return std::memcmp(&a, &b, sizeof a) == 0;
}

// Rounds to a whole number. A number out of range gives one that does not round back.
inline int64_t nearest(double x) {
#ifdef __x86_64__
  return _mm_cvtsd_si64(_mm_set_sd(x));
#else
  return std::fabs(x) <= largest ? static_cast<int64_t>(std::nearbyint(x)) : INT64_MIN;
#endif
}

// A decimal with `digits` digits as a whole number, if the conversion is exact.
inline bool whole(double x, int digits, int64_t* out) {
  double scaled = x * tens[digits];
  if (!(std::fabs(scaled) <= largest)) return false;
  int64_t number = nearest(scaled);
  if (!same_bits(static_cast<double>(number) / tens[digits], x)) return false;
  *out = number;
  return true;
}

// A column of numbers as whole numbers, without their common step and start.
struct Whole {
  std::string name;
  int digits = 0;
  int64_t start = 0;
  int64_t step = 1;
  std::vector<int64_t> values;
  bool complete = true;
  bool comparable(const Whole& other) const {
    return complete && other.complete && digits == other.digits && start == 0 && other.start == 0 &&
           step == other.step;
  }
};

int64_t expected_value(const std::vector<Whole>& done, const std::vector<int64_t>& own,
                       Expected how, int a, int b, size_t i) {
  switch (how) {
    case before: return i == 0 ? 0 : own[i - 1];
    case same_row: return done[a].values[i];
    case row_before: return i == 0 ? 0 : done[a].values[i - 1];
    case larger: return std::max(done[a].values[i], done[b].values[i]);
    case smaller: return std::min(done[a].values[i], done[b].values[i]);
    default: return 0;
  }
}

struct Choice {
  Expected how = nothing;
  int a = 0;
  int b = 0;
};

// Chooses the best prediction on a sample: the previous value, or another column.
Choice choose(const std::vector<Whole>& done, const Whole& own, bool thorough) {
  std::vector<Choice> all = {{nothing, 0, 0}, {before, 0, 0}};
  std::vector<int> alike;
  for (size_t k = 0; k < done.size() && alike.size() < 4; k++) {
    if (own.comparable(done[k])) alike.push_back(static_cast<int>(k));
  }
  for (int k : alike) {
    all.push_back({same_row, k, 0});
    all.push_back({row_before, k, 0});
  }
  if (alike.size() > 1) {
    all.push_back({larger, alike[0], alike[1]});
    all.push_back({smaller, alike[0], alike[1]});
  }
  size_t n = std::min<size_t>(own.values.size(), thorough ? 256 : 64);
  Choice best;
  double least = -1;
  for (const Choice& one : all) {
    // bits of the deviation from the median difference, which the group's base removes
    std::vector<int64_t> rest(n);
    for (size_t i = 0; i < n; i++)
      rest[i] = minus(own.values[i], expected_value(done, own.values, one.how, one.a, one.b, i));
    std::vector<int64_t> sorted(rest);
    std::nth_element(sorted.begin(), sorted.begin() + n / 2, sorted.end());
    double cost = 0;
    for (int64_t x : rest) cost += width_of(zigzag(minus(x, sorted[n / 2])));
    if (least < 0 || cost < least) {
      least = cost;
      best = one;
    }
  }
  return best;
}

void write_whole(Writer& out, std::vector<Whole>& done, Whole& own,
                 const std::vector<uint8_t>& absent, size_t n, bool thorough) {
  Choice choice = choose(done, own, thorough);
  out.byte(static_cast<uint8_t>(own.digits));
  out.byte(static_cast<uint8_t>(choice.how));
  out.varint(static_cast<uint64_t>(choice.a));
  out.varint(static_cast<uint64_t>(choice.b));
  out.varint(zigzag(own.start));
  out.varint(static_cast<uint64_t>(own.step));
  out.byte(absent.empty() ? 0 : 1);
  if (!absent.empty()) out.bytes.insert(out.bytes.end(), absent.begin(), absent.end());
  std::vector<int64_t> rest(own.values.size());
  for (size_t i = 0; i < rest.size(); i++)
    rest[i] =
        minus(own.values[i], expected_value(done, own.values, choice.how, choice.a, choice.b, i));
  out.numbers(rest.data(), rest.size(), thorough);
  done.push_back(std::move(own));
}

int64_t common_step(int64_t a, int64_t b) {
  while (b != 0) {
    int64_t rest = a % b;
    a = b;
    b = rest;
  }
  return a < 0 ? -a : a;
}

void take_out(Whole& own, bool from_first) {
  if (own.values.empty()) return;
  if (from_first) own.start = own.values[0];
  // a common divisor of the values also divides their differences
  int64_t step = 0, before = own.start, difference = 0;
  for (int64_t x : own.values) {
    int64_t apart = minus(x, before);
    before = x;
    if (apart == difference) continue;
    difference = apart;
    step = common_step(apart, step);
    if (step == 1) break;
  }
  own.step = step > 0 ? step : 1;
  if (own.step == 1) {
    if (own.start != 0)
      for (int64_t& x : own.values) x = minus(x, own.start);
    return;
  }
  int64_t count = 0, steps = 0;
  before = own.start;
  difference = 0;
  for (int64_t& x : own.values) {
    int64_t apart = minus(x, before);
    before = x;
    if (apart != difference) {
      difference = apart;
      steps = apart / own.step;
    }
    x = count = plus(count, steps);
  }
}

bool all_same(const double* v, size_t n) {
  for (size_t i = 1; i < n; i++) {
    if (!same_bits(v[i], v[0]) && !(std::isnan(v[i]) && std::isnan(v[0]))) return false;
  }
  return true;
}

void write_number(Writer& out, std::vector<Whole>& done, const std::string& name, Type type,
                  const double* v, size_t n, bool thorough) {
  if (n == 0 || (all_same(v, n) && std::isnan(v[0]))) {
    out.byte(missing);
    return;
  }
  if (all_same(v, n)) {
    out.byte(constant);
    out.fixed<double>(v[0]);
    return;
  }
  Whole own;
  own.name = name;
  std::vector<uint8_t> absent;
  int digits = type == instant ? 6 : 0;
  own.values.reserve(n);
  for (size_t i = 0; i < n; i++) {
    if (std::isnan(v[i])) {
      if (absent.empty()) absent.assign((n + 7) / 8, 0);
      absent[i >> 3] |= 1 << (i & 7);
      own.complete = false;
      continue;
    }
    int64_t x = 0;
    if (!whole(v[i], digits, &x)) {
      // a value with more digits: rescale the earlier values
      int had = digits;
      do digits++;
      while (digits <= most_digits && !whole(v[i], digits, &x));
      bool fits = digits <= most_digits;
      for (size_t k = 0; fits && k < own.values.size(); k++) {
        double scaled = static_cast<double>(own.values[k]) * tens[digits - had];
        fits = std::fabs(scaled) <= largest &&
               same_bits(scaled / tens[digits], static_cast<double>(own.values[k]) / tens[had]);
        own.values[k] = static_cast<int64_t>(scaled);
      }
      if (!fits) {
        out.byte(raw);
        out.bytes.insert(out.bytes.end(), reinterpret_cast<const uint8_t*>(v),
                         reinterpret_cast<const uint8_t*>(v + n));
        return;
      }
    }
    own.values.push_back(x);
  }
  own.digits = digits;
  take_out(own, type != number);
  out.byte(packed);
  write_whole(out, done, own, absent, n, thorough);
}

void write_text(Writer& out, SEXP column, size_t n, bool thorough) {
  std::unordered_map<SEXP, int64_t> place;
  std::vector<SEXP> levels;
  std::vector<int64_t> codes(n);
  SEXP last = R_NilValue;
  int64_t code = 0;
  for (size_t i = 0; i < n; i++) {
    SEXP one = STRING_ELT(column, i);
    if (one != last) {
      auto found = place.emplace(one, static_cast<int64_t>(levels.size()));
      if (found.second) levels.push_back(one);
      code = found.first->second;
      last = one;
    }
    codes[i] = code;
  }
  if (n == 0 || (levels.size() == 1 && levels[0] == NA_STRING)) {
    out.byte(missing);
    return;
  }
  out.byte(levels.size() == 1 ? constant : dictionary);
  if (levels.size() > 1) out.varint(levels.size());
  for (SEXP level : levels) {
    bool absent = level == NA_STRING;
    if (levels.size() > 1) out.byte(absent ? 0 : 1);
    if (absent) continue;
    const char* utf8 = Rf_translateCharUTF8(level);
    out.words(utf8, std::strlen(utf8));
  }
  if (levels.size() > 1) out.numbers(codes.data(), n, thorough);
}

void write_flag(Writer& out, std::vector<Whole>& done, const std::string& name, SEXP column,
                size_t n, bool thorough) {
  std::vector<double> v(n);
  const int* flags = LOGICAL(column);
  for (size_t i = 0; i < n; i++) v[i] = flags[i] == NA_LOGICAL ? NA_REAL : flags[i];
  write_number(out, done, name, flag, v.data(), n, thorough);
}

Type type_of(SEXP column) {
  if (Rf_inherits(column, "POSIXct")) return instant;
  if (Rf_inherits(column, "Date")) return day;
  switch (TYPEOF(column)) {
    case REALSXP: return number;
    case STRSXP: return text;
    case LGLSXP: return flag;
    default: stop("a column of a block is numbers, instants, days, texts or flags");
  }
}

}  // namespace

// [[Rcpp::export]]
RawVector block_write_cpp(List columns, bool thorough) {
  Writer out;
  out.bytes.reserve(4096);
  size_t n = columns.size() ? Rf_xlength(columns[0]) : 0;
  for (int i = 0; i < 4; i++) out.byte(magic[i]);
  out.byte(version);
  out.varint(n);
  out.varint(columns.size());
  CharacterVector names = columns.names();
  std::vector<Whole> done;
  for (R_xlen_t i = 0; i < columns.size(); i++) {
    SEXP column = columns[i];
    std::string name(Rf_translateCharUTF8(names[i]));
    if (static_cast<size_t>(Rf_xlength(column)) != n)
      stop("the columns of a block are of one length");
    Type type = type_of(column);
    out.words(name.data(), name.size());
    out.byte(type);
    switch (type) {
      case text: write_text(out, column, n, thorough); break;
      case flag: write_flag(out, done, name, column, n, thorough); break;
      default: write_number(out, done, name, type, REAL(column), n, thorough);
    }
  }
  out.fixed<uint64_t>(checksum(out.bytes.data(), out.bytes.size()));
  RawVector result(out.bytes.size());
  std::copy(out.bytes.begin(), out.bytes.end(), result.begin());
  return result;
}
