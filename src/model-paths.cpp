// Simulated paths. Each path has its own stream of random numbers, from the seed and the number of
// the path: the same seed gives the same paths, however many are simulated together.
#include <Rcpp.h>
#include <cstdint>
using namespace Rcpp;

namespace {

// xoshiro256++ of Blackman and Vigna (ACM TOMS 47, 2021), filled by splitmix64.
struct Stream {
  uint64_t s[4];
  explicit Stream(uint64_t seed) {
    for (int i = 0; i < 4; ++i) {
      seed += 0x9e3779b97f4a7c15ULL;
      uint64_t z = seed;
      z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
      z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
      s[i] = z ^ (z >> 31);
    }
  }
  static uint64_t turn(uint64_t x, int k) { return (x << k) | (x >> (64 - k)); }
  uint64_t next() {
    uint64_t result = turn(s[0] + s[3], 23) + s[0], t = s[1] << 17;
    s[2] ^= s[0];
    s[3] ^= s[1];
    s[1] ^= s[2];
    s[0] ^= s[3];
    s[2] ^= t;
    s[3] = turn(s[3], 45);
    return result;
  }
  // within (0, 1), without the ends
  double uniform() { return ((next() >> 11) + 0.5) * (1.0 / 9007199254740992.0); }
  R_xlen_t below(R_xlen_t n) {
    return static_cast<R_xlen_t>(
        (static_cast<unsigned __int128>(next()) * static_cast<uint64_t>(n)) >> 64);
  }
};

// The normal quantile function: Wichura's AS 241 (Applied Statistics 37, 1988) in the middle, R's
// function in the tails.
inline double normal_at(double p) {
  double q = p - 0.5;
  if (std::fabs(q) > 0.425) return R::qnorm5(p, 0, 1, 1, 0);
  double r = 0.180625 - q * q;
  double above =
      (((((((2509.0809287301226727 * r + 33430.575583588128105) * r + 67265.770927008700853) * r +
           45921.953931549871457) * r + 13731.693765509461125) * r + 1971.5909503065514427) * r +
        133.14166789178437745) * r + 3.3871328727963666080);
  double below =
      (((((((5226.4952788528545610 * r + 28729.085735721942674) * r + 39307.895800092710610) * r +
           21213.794301586595867) * r + 5394.1960214247511077) * r + 687.18700749205790830) * r +
        42.313330701600911252) * r + 1.0);
  return q * above / below;
}

// A gamma variate with a shape of at least 1/2: Marsaglia and Tsang (ACM TOMS 26, 2000).
double gamma_number(Stream &stream, double shape) {
  if (shape < 1) return gamma_number(stream, shape + 1) * std::pow(stream.uniform(), 1 / shape);
  double d = shape - 1.0 / 3, c = 1 / std::sqrt(9 * d);
  for (;;) {
    double x = normal_at(stream.uniform()), v = 1 + c * x;
    if (v <= 0) continue;
    v = v * v * v;
    if (std::log(stream.uniform()) < 0.5 * x * x + d - d * v + d * std::log(v)) return d * v;
  }
}

struct Noise {
  NumericVector ar, ma, level, sigma, values, shocks;
  double omega, alpha, beta, variance, df, lower, upper;
  bool garch;
  explicit Noise(List from)
      : ar(from["ar"]), ma(from["ma"]), level(from["level"]), sigma(from["sigma"]),
        values(from["values"]), shocks(from["shocks"]), omega(from["omega"]), alpha(from["alpha"]),
        beta(from["beta"]), variance(from["variance"]), df(from["df"]), lower(from["lower"]),
        upper(from["upper"]), garch(from["garch"]) {}
};

}  // namespace

// Paths `first` to `first + n - 1` of several series: a matrix per series with a column per path.
// `mix` is the lower triangle that makes independent numbers dependent. If `pool` has rows,
// residuals are drawn from it in runs of `block` rows.
// [[Rcpp::export]]
List model_paths_cpp(List series, int n, int steps, double seed, double first, NumericMatrix mix,
                     NumericMatrix pool, int block, int burn) {
  int m = series.size();
  std::vector<Noise> all;
  for (int k = 0; k < m; ++k) all.emplace_back(List(series[k]));
  std::vector<NumericMatrix> out;
  for (int k = 0; k < m; ++k) out.emplace_back(no_init(steps, n));
  std::vector<std::vector<double>> x(m), e(m);
  std::vector<double> variance(m), z(m), free(m), last(m);
  for (int path = 0; path < n; ++path) {
    if (path % 256 == 0) checkUserInterrupt();
    uint64_t number = static_cast<uint64_t>(first) + path;
    Stream stream(static_cast<uint64_t>(static_cast<int64_t>(seed)) * 0xd1342543de82ef95ULL +
                  number * 0x2545f4914f6cdd1dULL + 1);
    for (int k = 0; k < m; ++k) {
      // newest first
      int p = all[k].ar.size(), q = all[k].ma.size();
      x[k].assign(p, 0);
      e[k].assign(q, 0);
      if (!burn) {
        for (int i = 0; i < p; ++i) x[k][i] = all[k].values[i];
        for (int j = 0; j < q; ++j) e[k][j] = all[k].shocks[j];
      }
      variance[k] = all[k].variance;
    }
    R_xlen_t row = 0, left = 0;
    for (int t = -burn; t < steps; ++t) {
      if (pool.nrow() > 0) {
        if (left == 0) {
          row = stream.below(pool.nrow());
          left = block;
        }
        for (int k = 0; k < m; ++k) z[k] = pool(row, k);
        row = row + 1 < pool.nrow() ? row + 1 : 0;
        --left;
      } else {
        for (int k = 0; k < m; ++k) free[k] = normal_at(stream.uniform());
        for (int k = 0; k < m; ++k) {
          double sum = 0;
          for (int i = 0; i <= k; ++i) sum += mix(k, i) * free[i];
          double df = all[k].df;
          z[k] = df > 0 ? sum * std::sqrt((df - 2) / (2 * gamma_number(stream, df / 2))) : sum;
        }
      }
      for (int k = 0; k < m; ++k) {
        const Noise &one = all[k];
        int at = t < 0 ? 0 : t;
        double spread = one.garch ? std::sqrt(variance[k]) : one.sigma[at];
        double shock = spread * z[k], value = shock;
        int p = one.ar.size(), q = one.ma.size();
        for (int i = 0; i < p; ++i) value += one.ar[i] * x[k][i];
        for (int j = 0; j < q; ++j) value += one.ma[j] * e[k][j];
        for (int i = p - 1; i > 0; --i) x[k][i] = x[k][i - 1];
        for (int j = q - 1; j > 0; --j) e[k][j] = e[k][j - 1];
        if (p > 0) x[k][0] = value;
        if (q > 0) e[k][0] = shock;
        if (one.garch) {
          variance[k] = one.omega + one.alpha * shock * shock + one.beta * variance[k];
        }
        if (t >= 0) {
          double level = one.level[t] + value;
          out[k](t, path) = level < one.lower ? one.lower : level > one.upper ? one.upper : level;
        }
      }
    }
  }
  List result(m);
  for (int k = 0; k < m; ++k) result[k] = out[k];
  return result;
}

// Normal variates of a path's stream, for benchmarks and tests.
// [[Rcpp::export]]
NumericVector model_normal_cpp(int n, double seed) {
  NumericVector out(n);
  Stream stream(static_cast<uint64_t>(static_cast<int64_t>(seed)) * 0xd1342543de82ef95ULL + 1);
  for (int i = 0; i < n; ++i) out[i] = normal_at(stream.uniform());
  return out;
}

// Per column of a matrix, the sum of shortfalls below (or excesses above) a level, with at most
// `most` per day, over runs of rows: a row per run, a column per path.
// [[Rcpp::export]]
NumericMatrix model_shortfall_cpp(NumericMatrix paths, IntegerVector run, int runs, double level,
                                  bool below, double most) {
  int rows = paths.nrow(), columns = paths.ncol();
  NumericMatrix out(runs, columns);
  for (int c = 0; c < columns; ++c) {
    const double *value = &paths(0, c);
    double *sum = &out(0, c);
    for (int r = 0; r < rows; ++r) {
      if (run[r] < 1) continue;
      double part = below ? level - value[r] : value[r] - level;
      if (part > 0) sum[run[r] - 1] += part < most ? part : most;
    }
  }
  return out;
}
