// Functions that every command needs for its standard output. They do not use Rcpp, because loading
// Rcpp takes longer than a short command.
#include "descriptor.h"
#include <cerrno>
#include <csignal>
#include <cstring>
#include <sys/stat.h>
#include <unistd.h>
#include <R.h>
#include <Rinternals.h>

int write_all(int fd, const unsigned char* at, size_t left) {
  while (left > 0) {
    const ssize_t n = write(fd, at, left);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return n < 0 ? errno : ENOSPC;
    at += n;
    left -= n;
  }
  return 0;
}

static bool is_file(int fd, const char* path) {
  struct stat a, b;
  if (fstat(fd, &a) != 0) return true;
  // a temporary file without a name, like the file of R's own script
  if (S_ISREG(a.st_mode) && a.st_nlink == 0) return true;
  return stat(path, &b) == 0 && a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

// Whether an open descriptor is this file. If standard output was closed, the next opened file has
// its number.
extern "C" SEXP descriptor_is(SEXP fd, SEXP path) {
  return Rf_ScalarLogical(is_file(Rf_asInteger(fd), CHAR(STRING_ELT(path, 0))));
}

// Writes bytes to an open descriptor, such as standard output. Returns 0, or the error number.
extern "C" SEXP descriptor_write(SEXP fd, SEXP bytes) {
  // a closed pipe is reported as an error, not as a signal
  struct sigaction ignored, before;
  std::memset(&ignored, 0, sizeof ignored);
  ignored.sa_handler = SIG_IGN;
  sigaction(SIGPIPE, &ignored, &before);
  const int error = write_all(Rf_asInteger(fd), RAW(bytes), XLENGTH(bytes));
  sigaction(SIGPIPE, &before, nullptr);
  return Rf_ScalarInteger(error);
}
