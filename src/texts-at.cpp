// Texts by position, from 0.
#include <Rcpp.h>
#include "doubles.h"
using namespace Rcpp;

namespace {

template <class T>
void texts_at(const SEXP* texts, double n, const T* places, R_xlen_t step, SEXP out) {
  const R_xlen_t size = Rf_xlength(out);
  for (R_xlen_t i = 0; i < size; ++i) {
    // a missing number compares with nothing and has no position
    const double place = static_cast<double>(places[i * step]);
    SET_STRING_ELT(out, i,
                   place >= 0 && place < n ? texts[static_cast<R_xlen_t>(place)] : NA_STRING);
  }
}

}  // namespace

// The texts at whole numbers, or at the numbers of a matrix row (from 1); missing if there is none.
// [[Rcpp::export]]
CharacterVector texts_at_cpp(CharacterVector texts, SEXP places, int row = 0) {
  const R_xlen_t rows = row > 0 ? Rf_nrows(places) : 1;
  if (row > rows) stop("there is no row %d", row);
  const R_xlen_t from = row > 0 ? row - 1 : 0;
  const Shield<SEXP> out(Rf_allocVector(STRSXP, Rf_xlength(places) / std::max<R_xlen_t>(rows, 1)));
  const SEXP* known = STRING_PTR(static_cast<SEXP>(texts));
  const double n = static_cast<double>(texts.size());
  if (TYPEOF(places) == INTSXP) {
    texts_at(known, n, INTEGER(places) + from, rows, out);
  } else {
    texts_at(known, n, Doubles(places).begin() + from, rows, out);
  }
  return static_cast<SEXP>(out);
}
