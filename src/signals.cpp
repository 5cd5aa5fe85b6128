// A process that is asked to end does so as one that is interrupted: between two pages, with a
// word.
#include <Rcpp.h>
#include <csignal>

namespace {
void interrupt(int) {
  // R's own handler notes it, and R stops where it is safe
  std::raise(SIGINT);
}
}  // namespace

// [[Rcpp::export]]
void end_as_interrupt_cpp() {
#ifdef SIGTERM
  std::signal(SIGTERM, interrupt);
#endif
}
