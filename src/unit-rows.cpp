// Rows, in one compilation unit: JSON as rows, blocks of the column store, the stand-ins' front,
// requests from R.
#include "json-rows.cpp"
#include "native.cpp"
#include "row-sums.cpp"
#include "standin-front.cpp"
#include "standin-uniform.cpp"
#include "RcppExports.cpp"
