// Resamples bars in a single pass over rows ordered by group and time.
#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <vector>
using namespace Rcpp;

// `group` and `time` are the rows, in this order. Frames are as in calendar-frames.cpp, each with
// the number and the time of its bucket. Within a day (step > 0) a bucket is a step of its frame;
// otherwise it is the frame's bucket.
// [[Rcpp::export]]
List resample_cpp(IntegerVector group, NumericVector time, NumericVector open, NumericVector high,
                 NumericVector low, NumericVector close, NumericVector volume, NumericVector mean,
                 CharacterVector status, NumericVector through, NumericVector known,
                 NumericVector frame_open,
                 NumericVector frame_close, NumericVector anchor, NumericVector bucket_time,
                 double step) {
  const R_xlen_t n = time.size(), frames = frame_open.size();
  std::vector<int> out_group, out_count, out_frame;
  std::vector<double> out_time, out_open, out_high, out_low, out_close, out_volume, out_value,
      out_weight, out_through, out_known;
  std::vector<int> out_provisional;
  double outside = 0;
  // R keeps equal texts as one object
  const SEXP unsettled = String("provisional").get_sexp();
  const SEXP* status_text = STRING_PTR(static_cast<SEXP>(status));
  const double *t_ = time.begin(), *o_ = open.begin(), *h_ = high.begin(), *l_ = low.begin(),
               *c_ = close.begin(), *v_ = volume.begin();
  const int* g_ = group.begin();
  // the price of a bar's volume: its volume-weighted mean if it has one, else its close
  const double* price = mean.size() == n ? mean.begin() : close.begin();
  // `through` and `known` of a bucket are the latest ones of its bars, if there are such columns
  const bool told = known.size() == n && through.size() == n;
  R_xlen_t f = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if ((i & 0xFFFFF) == 0xFFFFF) checkUserInterrupt();
    const double t = t_[i];
    if (f >= frames || t < frame_open[f] || (f + 1 < frames && t >= frame_open[f + 1])) {
      f = std::upper_bound(frame_open.begin(), frame_open.end(), t) - frame_open.begin() - 1;
      if (f < 0) f = 0;
    }
    if (frames == 0 || !(t >= frame_open[f] && t < frame_close[f])) {
      ++outside;
      continue;
    }
    const double bucket =
        step > 0 ? anchor[f] + std::floor((t - anchor[f]) / step) * step : bucket_time[f];
    const size_t last = out_time.size();
    const bool same = last > 0 && out_group[last - 1] == g_[i] && out_time[last - 1] == bucket;
    if (!same) {
      out_group.push_back(g_[i]);
      out_frame.push_back(static_cast<int>(f + 1));
      out_time.push_back(bucket);
      out_open.push_back(o_[i]);
      out_high.push_back(h_[i]);
      out_low.push_back(l_[i]);
      out_close.push_back(c_[i]);
      out_volume.push_back(v_[i]);
      const bool priced = !std::isnan(price[i]) && !std::isnan(v_[i]);
      out_value.push_back(priced ? price[i] * v_[i] : 0);
      out_weight.push_back(priced ? v_[i] : 0);
      if (told) {
        out_through.push_back(through[i]);
        out_known.push_back(known[i]);
      }
      out_count.push_back(1);
      out_provisional.push_back((status_text[i] == unsettled));
      continue;
    }
    const size_t b = last - 1;
    if (std::isnan(out_open[b])) out_open[b] = o_[i];
    if (std::isnan(out_high[b]) || h_[i] > out_high[b]) out_high[b] = h_[i];
    if (std::isnan(out_low[b]) || l_[i] < out_low[b]) out_low[b] = l_[i];
    if (!std::isnan(c_[i])) out_close[b] = c_[i];
    if (!std::isnan(v_[i])) {
      out_volume[b] = std::isnan(out_volume[b]) ? v_[i] : out_volume[b] + v_[i];
      if (!std::isnan(price[i])) {
        out_value[b] += price[i] * v_[i];
        out_weight[b] += v_[i];
      }
    }
    if (told) {
      out_through[b] = std::max(out_through[b], through[i]);
      out_known[b] = std::max(out_known[b], known[i]);
    }
    ++out_count[b];
    out_provisional[b] = out_provisional[b] || (status_text[i] == unsettled);
  }
  NumericVector average(out_time.size());
  for (size_t b = 0; b < out_time.size(); ++b)
    average[b] = out_weight[b] > 0 ? out_value[b] / out_weight[b] : NA_REAL;
  return List::create(
      _["group"] = wrap(out_group), _["time"] = wrap(out_time), _["open"] = wrap(out_open),
      _["high"] = wrap(out_high), _["low"] = wrap(out_low), _["close"] = wrap(out_close),
      _["volume"] = wrap(out_volume), _["vwap"] = average, _["count"] = wrap(out_count),
      _["through"] = wrap(out_through), _["known"] = wrap(out_known), _["frame"] = wrap(out_frame),
      _["provisional"] = wrap(out_provisional), _["outside"] = outside);
}
