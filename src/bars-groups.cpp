// Numbers of groups, from 1 in the order in which they first come. Equal texts are one object in R,
// so that objects are compared.
#include <Rcpp.h>
#include <unordered_map>
#include <vector>
using namespace Rcpp;

// [[Rcpp::export]]
List groups_cpp(CharacterVector text) {
  const R_xlen_t n = text.size();
  IntegerVector out(no_init(n));
  std::vector<double> first;
  std::unordered_map<SEXP, int> seen;
  SEXP x = text, last = nullptr;
  int current = 0;
  int* o = out.begin();
  const SEXP* p = STRING_PTR(x);
  for (R_xlen_t i = 0; i < n; ++i) {
    if (p[i] != last) {
      last = p[i];
      auto found = seen.find(last);
      if (found == seen.end()) {
        current = static_cast<int>(seen.size()) + 1;
        seen.emplace(last, current);
        first.push_back(static_cast<double>(i + 1));
      } else {
        current = found->second;
      }
    }
    o[i] = current;
  }
  return List::create(_["id"] = out, _["first"] = wrap(first));
}
