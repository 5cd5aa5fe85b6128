// Decodes blocks to columns, with the rows of all blocks one after the other: see docs/blocks.md.
#include <Rcpp.h>

#include <cmath>

#include "block.h"

using namespace Rcpp;
using namespace block;

namespace {

// A column of a block before its values are decoded.
struct Held {
  std::string name;
  Type type;
  Form form;
  double constant_number = 0;
  std::string constant_text;
  int digits = 0;
  Expected how = nothing;
  int a = 0;
  int b = 0;
  int64_t start = 0;
  int64_t step = 1;
  std::vector<uint8_t> absent;
  std::vector<int64_t> values;
  std::vector<std::string> levels;
  std::vector<bool> known;
  const uint8_t* doubles = nullptr;
};

struct Block {
  size_t n = 0;
  std::vector<Held> columns;
};

void restore(std::vector<int64_t>& v, const std::vector<Held*>& done, const Held& own) {
  size_t n = v.size();
  auto of = [&](int k) -> const std::vector<int64_t>& {
    if (k < 0 || k >= static_cast<int>(done.size()) || done[k]->values.size() < n)
      throw std::runtime_error("a column of the block is damaged");
    return done[k]->values;
  };
  switch (own.how) {
    case nothing: break;
    case before:
      for (size_t i = 1; i < n; i++) v[i] = plus(v[i], v[i - 1]);
      break;
    case same_row: {
      const auto& a = of(own.a);
      for (size_t i = 0; i < n; i++) v[i] = plus(v[i], a[i]);
      break;
    }
    case row_before: {
      const auto& a = of(own.a);
      for (size_t i = 1; i < n; i++) v[i] = plus(v[i], a[i - 1]);
      break;
    }
    case larger: {
      const auto& a = of(own.a);
      const auto& b = of(own.b);
      for (size_t i = 0; i < n; i++) v[i] = plus(v[i], std::max(a[i], b[i]));
      break;
    }
    case smaller: {
      const auto& a = of(own.a);
      const auto& b = of(own.b);
      for (size_t i = 0; i < n; i++) v[i] = plus(v[i], std::min(a[i], b[i]));
      break;
    }
    default: throw std::runtime_error("a column of the block is of a form that is not known");
  }
}

void read_packed(Reader& in, Held& own, std::vector<Held*>& done, size_t n) {
  own.digits = in.byte();
  own.how = static_cast<Expected>(in.byte());
  auto place = [&]() { return static_cast<int>(std::min<uint64_t>(in.varint(), INT32_MAX)); };
  own.a = place();
  own.b = place();
  own.start = unzigzag(in.varint());
  own.step = static_cast<int64_t>(in.varint());
  if (own.digits > 9) throw std::runtime_error("a column of the block is damaged");
  size_t count = n;
  if (in.byte()) {
    size_t size = (n + 7) / 8;
    in.need(size);
    own.absent.assign(in.at, in.at + size);
    in.at += size;
    for (size_t i = 0; i < n; i++) count -= (own.absent[i >> 3] >> (i & 7)) & 1;
  }
  own.values.resize(count);
  in.numbers(own.values.data(), count);
  restore(own.values, done, own);
  done.push_back(&own);
}

void read_column(Reader& in, Held& own, std::vector<Held*>& done, size_t n) {
  own.name = in.words();
  own.type = static_cast<Type>(in.byte());
  own.form = static_cast<Form>(in.byte());
  if (own.type < number || own.type > flag)
    throw std::runtime_error("a column of the block is of a type that is not known");
  switch (own.form) {
    case missing: break;
    case constant:
      if (own.type == text)
        own.constant_text = in.words();
      else
        own.constant_number = in.fixed<double>();
      break;
    case raw:
      in.need(n * 8);
      own.doubles = in.at;
      in.at += n * 8;
      break;
    case packed: read_packed(in, own, done, n); break;
    case dictionary: {
      uint64_t size = in.varint();
      in.need(size);
      for (uint64_t i = 0; i < size; i++) {
        own.known.push_back(in.byte() != 0);
        own.levels.push_back(own.known.back() ? in.words() : std::string());
      }
      own.values.resize(n);
      in.numbers(own.values.data(), n);
      for (int64_t x : own.values) {
        if (x < 0 || static_cast<uint64_t>(x) >= size)
          throw std::runtime_error("a text of the block is damaged");
      }
      break;
    }
    default: throw std::runtime_error("a column of the block is of a form that is not known");
  }
}

void read_block(SEXP body, Block& into) {
  const uint8_t* bytes = RAW(body);
  size_t size = Rf_xlength(body);
  if (size < 16 || std::memcmp(bytes, magic, 4) != 0) throw std::runtime_error("this is no block");
  if (bytes[4] > version) throw std::runtime_error("the block is of a later version");
  uint64_t told;
  std::memcpy(&told, bytes + size - 8, 8);
  if (told != checksum(bytes, size - 8))
    throw std::runtime_error("the bytes are not those that were written");
  Reader in(bytes + 5, bytes + size - 8);
  into.n = in.varint();
  uint64_t count = in.varint();
  in.need(count);
  into.columns.resize(count);
  std::vector<Held*> done;
  for (Held& column : into.columns) read_column(in, column, done, into.n);
}

bool is_absent(const Held& column, size_t i) {
  return !column.absent.empty() && ((column.absent[i >> 3] >> (i & 7)) & 1);
}

// The rows `rows` of a column as numbers.
void numbers_of(const Held& column, size_t n, const std::vector<int>* rows, double* out) {
  size_t count = rows ? rows->size() : n;
  auto row = [&](size_t i) { return rows ? static_cast<size_t>((*rows)[i]) : i; };
  switch (column.form) {
    case missing: std::fill(out, out + count, NA_REAL); return;
    case constant: std::fill(out, out + count, column.constant_number); return;
    case raw:
      for (size_t i = 0; i < count; i++) std::memcpy(out + i, column.doubles + row(i) * 8, 8);
      return;
    default: break;
  }
  const double scale = tens[column.digits];
  auto value = [&](int64_t x) {
    return static_cast<double>(column.start + x * column.step) / scale;
  };
  if (column.absent.empty()) {
    if (rows)
      for (size_t i = 0; i < count; i++) out[i] = value(column.values[row(i)]);
    else if (column.start == 0 && column.step == 1 && column.digits == 0)
      for (size_t i = 0; i < n; i++) out[i] = static_cast<double>(column.values[i]);
    else
      for (size_t i = 0; i < n; i++) out[i] = value(column.values[i]);
    return;
  }
  std::vector<double> all(n);
  size_t next = 0;
  for (size_t i = 0; i < n; i++)
    all[i] = is_absent(column, i) ? NA_REAL : value(column.values[next++]);
  for (size_t i = 0; i < count; i++) out[i] = all[row(i)];
}

void texts_of(const Held& column, size_t n, const std::vector<int>* rows, SEXP out, R_xlen_t from) {
  size_t count = rows ? rows->size() : n;
  if (column.form == missing || column.form == constant) {
    SEXP one = column.form == missing ? NA_STRING
                                      : Rf_mkCharLenCE(column.constant_text.data(),
                                                       column.constant_text.size(), CE_UTF8);
    for (size_t i = 0; i < count; i++) SET_STRING_ELT(out, from + i, one);
    return;
  }
  Shield<SEXP> levels(Rf_allocVector(STRSXP, column.levels.size()));
  for (size_t k = 0; k < column.levels.size(); k++) {
    SET_STRING_ELT(levels, k,
                   column.known[k]
                       ? Rf_mkCharLenCE(column.levels[k].data(), column.levels[k].size(), CE_UTF8)
                       : NA_STRING);
  }
  for (size_t i = 0; i < count; i++)
    SET_STRING_ELT(out, from + i, STRING_ELT(levels, column.values[rows ? (*rows)[i] : i]));
}

const Held* named(const Block& block, const std::string& name) {
  for (const Held& column : block.columns)
    if (column.name == name) return &column;
  return nullptr;
}

// The rows in the window that were known at the instant; of several releases of one time only the
// last, or all of them if `newest` is false.
bool chosen_rows(const Block& block, double from, double to, double at, bool newest,
                 std::vector<int>& rows) {
  const Held* time = named(block, "time");
  if (!time) return false;
  std::vector<double> times(block.n), since(block.n, R_NegInf);
  numbers_of(*time, block.n, nullptr, times.data());
  size_t first = std::lower_bound(times.begin(), times.end(), from) - times.begin();
  size_t last = std::lower_bound(times.begin(), times.end(), to) - times.begin();
  const Held* known = named(block, "known");
  bool several = newest;
  if (newest) {
    several = false;
    for (size_t i = first + 1; i < last && !several; i++) several = times[i] == times[i - 1];
  }
  bool bounded = known && std::isfinite(at);
  if (!several && !bounded) {
    if (first == 0 && last == block.n) return false;
    for (size_t i = first; i < last; i++) rows.push_back(static_cast<int>(i));
    return true;
  }
  if (known) numbers_of(*known, block.n, nullptr, since.data());
  for (size_t i = first; i < last; i++) {
    if (bounded && since[i] > at) continue;
    if (newest && !rows.empty() && times[rows.back()] == times[i])
      rows.back() = static_cast<int>(i);
    else
      rows.push_back(static_cast<int>(i));
  }
  return true;
}

struct Column {
  Type type;
  bool mixed = false;
};

}  // namespace

// Decodes blocks of one or several series to list(columns, rows), with the number of rows of each
// block. NULL if a column has different types in different blocks.
// [[Rcpp::export]]
SEXP blocks_read_cpp(List bodies, double from, double to, double at, bool newest) {
  R_xlen_t count = bodies.size();
  std::vector<std::string> names;
  std::vector<Type> types;
  IntegerVector sizes(count);
  size_t total = 0;
  bool bounded = std::isfinite(from) || std::isfinite(to) || std::isfinite(at) || newest;
  // the largest number of rows, from the headers
  for (R_xlen_t k = 0; k < count; k++) {
    SEXP body = bodies[k];
    if (TYPEOF(body) != RAWSXP || Rf_xlength(body) < 16) stop("this is no block");
    Reader in(RAW(body) + 5, RAW(body) + Rf_xlength(body) - 8);
    total += in.varint();
  }
  std::vector<RObject> owned;
  size_t filled = 0;
  for (R_xlen_t k = 0; k < count; k++) {
    checkUserInterrupt();
    Block block;
    read_block(bodies[k], block);
    std::vector<int> chosen;
    bool part = bounded && chosen_rows(block, from, to, at, newest, chosen);
    const std::vector<int>* rows_of = part ? &chosen : nullptr;
    size_t n = part ? chosen.size() : block.n;
    if (filled + n > total) throw std::runtime_error("the block is damaged");
    std::vector<bool> seen(names.size(), false);
    for (const Held& column : block.columns) {
      size_t at_column = std::find(names.begin(), names.end(), column.name) - names.begin();
      if (at_column == names.size()) {
        names.push_back(column.name);
        types.push_back(column.type);
        seen.push_back(false);
        SEXPTYPE kind = column.type == text ? STRSXP : column.type == flag ? LGLSXP : REALSXP;
        owned.push_back(RObject(Rf_allocVector(kind, total)));
        // columns that earlier blocks do not have
        if (kind == STRSXP)
          for (size_t i = 0; i < filled; i++) SET_STRING_ELT(owned.back(), i, NA_STRING);
        else if (kind == LGLSXP)
          std::fill(LOGICAL(owned.back()), LOGICAL(owned.back()) + filled, NA_LOGICAL);
        else
          std::fill(REAL(owned.back()), REAL(owned.back()) + filled, NA_REAL);
      }
      if (types[at_column] != column.type) {
        // a column without values fits any type
        if (column.form == missing) continue;
        return R_NilValue;
      }
      seen[at_column] = true;
      SEXP vector = owned[at_column];
      if (column.type == text) {
        texts_of(column, block.n, rows_of, vector, filled);
      } else if (column.type == flag) {
        std::vector<double> v(n);
        numbers_of(column, block.n, rows_of, v.data());
        for (size_t i = 0; i < n; i++)
          LOGICAL(vector)[filled + i] = std::isnan(v[i]) ? NA_LOGICAL : v[i] != 0;
      } else {
        numbers_of(column, block.n, rows_of, REAL(vector) + filled);
      }
    }
    for (size_t c = 0; c < names.size(); c++) {
      if (seen[c]) continue;
      SEXP vector = owned[c];
      if (TYPEOF(vector) == STRSXP)
        for (size_t i = 0; i < n; i++) SET_STRING_ELT(vector, filled + i, NA_STRING);
      else if (TYPEOF(vector) == LGLSXP)
        std::fill(LOGICAL(vector) + filled, LOGICAL(vector) + filled + n, NA_LOGICAL);
      else
        std::fill(REAL(vector) + filled, REAL(vector) + filled + n, NA_REAL);
    }
    sizes[k] = static_cast<int>(n);
    filled += n;
  }
  List columns(names.size());
  CharacterVector labels(names.size());
  for (size_t c = 0; c < names.size(); c++) {
    Shield<SEXP> vector(filled == total ? static_cast<SEXP>(owned[c])
                                        : Rf_lengthgets(owned[c], filled));
    if (types[c] == instant) {
      Rf_setAttrib(vector, R_ClassSymbol, CharacterVector::create("POSIXct", "POSIXt"));
      Rf_setAttrib(vector, Rf_install("tzone"), CharacterVector::create("UTC"));
    } else if (types[c] == day) {
      Rf_setAttrib(vector, R_ClassSymbol, CharacterVector::create("Date"));
    }
    columns[c] = vector;
    labels[c] = Rf_mkCharLenCE(names[c].data(), names[c].size(), CE_UTF8);
  }
  columns.attr("names") = labels;
  return List::create(_["columns"] = columns, _["rows"] = sizes);
}
