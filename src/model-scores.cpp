// Samples against outcomes: quantiles, means and the continuous ranked probability score.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <vector>
using namespace Rcpp;

// Per sample, the quantiles (Hyndman and Fan's type 7, American Statistician 50, 1996), the mean,
// and the score from the sorted sample.
// [[Rcpp::export]]
List sample_scores_cpp(List samples, NumericVector came, NumericVector probs) {
  const R_xlen_t n = samples.size();
  const R_xlen_t k = probs.size();
  NumericMatrix quantiles(static_cast<int>(k), static_cast<int>(n));
  NumericVector means(n), crps(n);
  std::vector<double> x;
  for (R_xlen_t i = 0; i < n; ++i) {
    const NumericVector sample = samples[i];
    x.assign(sample.begin(), sample.end());
    std::sort(x.begin(), x.end());
    const double m = static_cast<double>(x.size());
    if (x.empty()) stop("a sample is empty");
    for (R_xlen_t j = 0; j < k; ++j) {
      const double place = (m - 1) * probs[j];
      const double low = x[static_cast<size_t>(std::floor(place))];
      const double high = x[static_cast<size_t>(std::ceil(place))];
      const double part = place - std::floor(place);
      quantiles(j, i) = low == high ? low : (1 - part) * low + part * high;
    }
    long double sum = 0, rest = 0, score = 0;
    for (double value : x) sum += value;
    sum /= m;
    for (double value : x) rest += value - sum;
    means[i] = static_cast<double>(sum + rest / m);
    for (size_t j = 0; j < x.size(); ++j)
      score += (x[j] - came[i]) * ((came[i] < x[j] ? m : 0) - static_cast<double>(j + 1) + 0.5);
    crps[i] = static_cast<double>(2 / (m * m) * score);
  }
  return List::create(_["quantiles"] = quantiles, _["mean"] = means, _["crps"] = crps);
}
