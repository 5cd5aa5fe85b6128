// A termination signal acts like an interrupt: the process ends between two pages, with a message.
#include <Rcpp.h>
#include <csignal>

namespace {
void interrupt(int) {
  // R's handler notes the signal, and R stops where it is safe
  std::raise(SIGINT);
}
}  // namespace

// [[Rcpp::export]]
void end_as_interrupt_cpp() {
#ifdef SIGTERM
  std::signal(SIGTERM, interrupt);
#endif
}
