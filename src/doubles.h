// Read-only access to R's doubles. An Rcpp vector asks for writable memory, for which R copies some
// vectors.
#ifndef VETUSTA_DOUBLES_H
#define VETUSTA_DOUBLES_H
#include <Rcpp.h>

class Doubles {
 public:
  explicit Doubles(SEXP x) {
    if (TYPEOF(x) == REALSXP) {
      first_ = REAL_RO(x);
      size_ = XLENGTH(x);
    } else {
      own_ = Rcpp::as<Rcpp::NumericVector>(x);
      first_ = own_.begin();
      size_ = own_.size();
    }
  }
  R_xlen_t size() const { return size_; }
  const double* begin() const { return first_; }
  double operator[](R_xlen_t i) const { return first_[i]; }

 private:
  Rcpp::NumericVector own_;
  const double* first_;
  R_xlen_t size_;
};
#endif
