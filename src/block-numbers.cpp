// Groups of whole numbers: each has a base, numbers of a fixed bit width, and exceptions that need
// more bits.
#include "block.h"

namespace block {

namespace {

// Bytes of an exception: its position and its value.
const size_t odd_bytes = 4;

struct Plan {
  int64_t base;
  int width;
  size_t cost;
};

// The best bit width for this base.
void plan_from(int64_t base, const int64_t* v, size_t n, Plan* best) {
  size_t counts[65] = {0};
  for (size_t i = 0; i < n; i++) counts[width_of(static_cast<uint64_t>(minus(v[i], base)))]++;
  // numbers below the base wrap around and need the most bits
  size_t over = 0;
  for (int width = 64; width >= 0; width--) {
    size_t cost = (n * width + 7) / 8 + over * odd_bytes;
    if (cost < best->cost) *best = {base, width, cost};
    over += counts[width];
  }
}

Plan plan_quick(const int64_t* v, size_t n) {
  int64_t least = v[0];
  for (size_t i = 1; i < n; i++) least = std::min(least, v[i]);
  Plan best = {least, 64, n * 8 + 1};
  plan_from(least, v, n, &best);
  return best;
}

// A base that makes some small numbers exceptions.
Plan plan_thorough(const int64_t* v, size_t n) {
  Plan best = plan_quick(v, n);
  const size_t most = 9;
  if (n <= most || best.width == 0) return best;
  int64_t low[most];
  std::partial_sort_copy(v, v + n, low, low + most);
  for (size_t below : {1, 2, 4, 8}) {
    if (low[below] != low[below - 1]) plan_from(low[below], v, n, &best);
  }
  return best;
}

}  // namespace

void Writer::group(const int64_t* v, size_t n, bool thorough) {
  Plan plan = thorough ? plan_thorough(v, n) : plan_quick(v, n);
  uint64_t over[group_size];
  uint8_t place[group_size];
  size_t odd = 0;
  size_t start = bytes.size();
  // width, number of exceptions, base
  byte(static_cast<uint8_t>(plan.width));
  byte(0);
  varint(zigzag(plan.base));
  uint64_t gathered = 0;
  int filled = 0;
  for (size_t i = 0; i < n; i++) {
    uint64_t x = static_cast<uint64_t>(minus(v[i], plan.base));
    if (width_of(x) > plan.width) {
      over[odd] = zigzag(static_cast<int64_t>(x));
      place[odd++] = static_cast<uint8_t>(i);
      x = 0;
    }
    if (plan.width == 64) {
      fixed<uint64_t>(x);
      continue;
    }
    gathered |= x << filled;
    int left = filled + plan.width - 64;
    if (left >= 0) {
      fixed<uint64_t>(gathered);
      gathered = plan.width - left < 64 ? x >> (plan.width - left) : 0;
      filled = left;
    } else {
      filled += plan.width;
    }
  }
  for (; filled > 0; filled -= 8) {
    byte(static_cast<uint8_t>(gathered));
    gathered >>= 8;
  }
  bytes[start + 1] = static_cast<uint8_t>(odd);
  for (size_t i = 0; i < odd; i++) {
    byte(place[i]);
    varint(over[i]);
  }
}

void Reader::group(int64_t* v, size_t n) {
  int width = byte();
  size_t odd = byte();
  int64_t base = unzigzag(varint());
  if (width > 64 || odd > n) throw std::runtime_error("a group of the block is damaged");
  size_t size = (n * width + 7) / 8;
  need(size);
  if (width == 0) {
    std::fill(v, v + n, base);
  } else if (width == 64) {
    for (size_t i = 0; i < n; i++) {
      uint64_t x;
      std::memcpy(&x, at + i * 8, 8);
      v[i] = plus(base, static_cast<int64_t>(x));
    }
  } else {
    const uint64_t mask = (1ULL << width) - 1;
    size_t bit = 0;
    // whole words as long as they lie within the bytes, single bytes at the end
    for (size_t i = 0; i < n; i++, bit += width) {
      size_t first = bit >> 3;
      int shift = bit & 7;
      uint64_t x;
      if (first + 9 <= static_cast<size_t>(end - at)) {
        std::memcpy(&x, at + first, 8);
        x >>= shift;
        if (shift + width > 64) x |= static_cast<uint64_t>(at[first + 8]) << (64 - shift);
      } else {
        x = 0;
        for (int k = 0; k * 8 < shift + width; k++) {
          uint64_t part = at[first + k];
          int place = k * 8 - shift;
          x |= place < 0 ? part >> -place : part << place;
        }
      }
      v[i] = plus(base, static_cast<int64_t>(x & mask));
    }
  }
  at += size;
  for (size_t i = 0; i < odd; i++) {
    size_t place = byte();
    if (place >= n) throw std::runtime_error("a group of the block is damaged");
    v[place] = plus(base, unzigzag(varint()));
  }
}

}  // namespace block
