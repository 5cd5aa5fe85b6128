// Whole numbers packed in groups, and the bytes of a block. docs/blocks.md is the definition.
#ifndef VETUSTA_BLOCK_H
#define VETUSTA_BLOCK_H

#include <algorithm>
#include <cstdint>
#include <cstring>
#include <stdexcept>
#include <string>
#include <vector>

namespace block {

const size_t group_size = 128;
const uint8_t version = 1;
const char magic[5] = "VTBK";
const double tens[] = {1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9};

enum Type : uint8_t { number = 1, instant = 2, day = 3, text = 4, flag = 5 };
enum Form : uint8_t { missing = 0, constant = 1, raw = 2, packed = 3, dictionary = 4 };
enum Expected : uint8_t {
  nothing = 0,
  before = 1,
  same_row = 2,
  row_before = 3,
  larger = 4,
  smaller = 5
};

// The checksum of docs/blocks.md: a 64-bit FNV step over words of eight bytes, then over the
// remaining bytes.
inline uint64_t checksum(const uint8_t* bytes, size_t n) {
  uint64_t hash = 1469598103934665603ULL;
  const uint64_t prime = 1099511628211ULL;
  size_t i = 0;
  for (; i + 8 <= n; i += 8) {
    uint64_t word;
    std::memcpy(&word, bytes + i, 8);
    hash = (hash ^ word) * prime;
    hash ^= hash >> 29;
  }
  for (; i < n; i++) hash = (hash ^ bytes[i]) * prime;
  return hash;
}

inline uint64_t zigzag(int64_t x) {
  return (static_cast<uint64_t>(x) << 1) ^ static_cast<uint64_t>(x >> 63);
}
inline int64_t unzigzag(uint64_t x) {
  return static_cast<int64_t>(x >> 1) ^ -static_cast<int64_t>(x & 1);
}
// Differences wrap around, so every pair of whole numbers has one.
inline int64_t minus(int64_t a, int64_t b) {
  return static_cast<int64_t>(static_cast<uint64_t>(a) - static_cast<uint64_t>(b));
}
inline int64_t plus(int64_t a, int64_t b) {
  return static_cast<int64_t>(static_cast<uint64_t>(a) + static_cast<uint64_t>(b));
}
inline int width_of(uint64_t x) {
  return x == 0 ? 0 : 64 - __builtin_clzll(x);
}

class Writer {
 public:
  std::vector<uint8_t> bytes;
  void byte(uint8_t x) { bytes.push_back(x); }
  template <typename T>
  void fixed(T x) {
    const uint8_t* p = reinterpret_cast<const uint8_t*>(&x);
    bytes.insert(bytes.end(), p, p + sizeof(T));
  }
  void varint(uint64_t x) {
    while (x >= 128) {
      bytes.push_back(static_cast<uint8_t>(x) | 128);
      x >>= 7;
    }
    bytes.push_back(static_cast<uint8_t>(x));
  }
  void words(const char* text, size_t n) {
    varint(n);
    bytes.insert(bytes.end(), text, text + n);
  }
  void numbers(const int64_t* v, size_t n, bool thorough) {
    for (size_t at = 0; at < n; at += group_size)
      group(v + at, std::min(group_size, n - at), thorough);
  }

 private:
  void group(const int64_t* v, size_t n, bool thorough);
};

class Reader {
 public:
  const uint8_t* at;
  const uint8_t* end;
  Reader(const uint8_t* from, const uint8_t* to) : at(from), end(to) {}
  void need(size_t n) const {
    if (static_cast<size_t>(end - at) < n) throw std::runtime_error("the block ends too early");
  }
  uint8_t byte() {
    need(1);
    return *at++;
  }
  template <typename T>
  T fixed() {
    need(sizeof(T));
    T x;
    std::memcpy(&x, at, sizeof(T));
    at += sizeof(T);
    return x;
  }
  uint64_t varint() {
    uint64_t x = 0;
    for (int shift = 0; shift < 64; shift += 7) {
      uint8_t b = byte();
      x |= static_cast<uint64_t>(b & 127) << shift;
      if (b < 128) return x;
    }
    throw std::runtime_error("a number of the block has no end");
  }
  std::string words() {
    uint64_t n = varint();
    need(n);
    std::string text(reinterpret_cast<const char*>(at), n);
    at += n;
    return text;
  }
  void numbers(int64_t* v, size_t n) {
    for (size_t i = 0; i < n; i += group_size) group(v + i, std::min(group_size, n - i));
  }

 private:
  void group(int64_t* v, size_t n);
};

}  // namespace block

#endif
