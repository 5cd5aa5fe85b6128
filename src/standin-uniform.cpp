// Uniform numbers that depend only on a key and a position, so that invented data is the same on
// every machine.
#include <Rcpp.h>
#include <cstdint>
using namespace Rcpp;

static uint32_t mixed(uint32_t h) {  // the finishing steps of MurmurHash3
  h ^= h >> 16;
  h *= 0x85ebca6bu;
  h ^= h >> 13;
  h *= 0xc2b2ae35u;
  h ^= h >> 16;
  return h;
}

// [[Rcpp::export]]
NumericVector seeded_uniform_cpp(std::string key, int n) {
  uint32_t seed = 2166136261u;  // FNV-1a over the key
  for (unsigned char c : key) seed = (seed ^ c) * 16777619u;
  NumericVector out(n);
  for (int i = 0; i < n; ++i)
    out[i] = (mixed(mixed(seed) + 0x9e3779b9u * static_cast<uint32_t>(i + 1)) + 0.5) / 4294967296.0;
  return out;
}
