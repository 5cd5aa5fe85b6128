// Whole files: the kind of a path, and bytes that are on the disk before the file gets its name.
#include <Rcpp.h>
#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>
#include "descriptor.h"
using namespace Rcpp;

// "none", "file", "folder", "link", or "other" for a device, a pipe or a socket; and whether the
// user owns it.
// [[Rcpp::export]]
List file_kind_cpp(std::string path) {
  struct stat about;
  if (lstat(path.c_str(), &about) != 0) return List::create(_["type"] = "none", _["own"] = true);
  const char* kind = S_ISREG(about.st_mode)   ? "file"
                     : S_ISDIR(about.st_mode) ? "folder"
                     : S_ISLNK(about.st_mode) ? "link"
                                              : "other";
  return List::create(_["type"] = kind, _["own"] = about.st_uid == geteuid());
}

// Writes bytes to a new file and syncs it to the disk. Returns an empty text, or the error.
// [[Rcpp::export]]
std::string file_write_cpp(std::string path, RawVector bytes, int mode) {
  unlink(path.c_str());
  const int fd = open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
  if (fd < 0) return std::strerror(errno);
  const int error = write_all(fd, RAW(bytes), bytes.size());
  if (error != 0) {
    close(fd);
    return std::strerror(error);
  }
  const bool kept = fsync(fd) == 0;
  const std::string why = kept ? "" : std::strerror(errno);
  if (close(fd) != 0 && kept) return std::strerror(errno);
  return why;
}

// Syncs a file that other code has written.
// [[Rcpp::export]]
std::string file_sync_cpp(std::string path) {
  const int fd = open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return std::strerror(errno);
  const bool kept = fsync(fd) == 0;
  const std::string why = kept ? "" : std::strerror(errno);
  close(fd);
  return why;
}

// Joins raw vectors.
// [[Rcpp::export]]
RawVector join_bytes_cpp(List parts) {
  R_xlen_t size = 0;
  for (R_xlen_t i = 0; i < parts.size(); ++i) size += Rf_xlength(parts[i]);
  RawVector out(no_init(size));
  Rbyte* to = out.begin();
  for (R_xlen_t i = 0; i < parts.size(); ++i) {
    const SEXP part = parts[i];
    to = std::copy(RAW(part), RAW(part) + Rf_xlength(part), to);
  }
  return out;
}

// A piece of a text table: `end`, the position after its last complete line (line ends within
// quotation marks do not count); the number of line ends up to there (`lines`) and in `all`; the
// position of a zero byte, from 1, and the number of line ends before it.
// [[Rcpp::export]]
NumericVector piece_lines_cpp(RawVector bytes) {
  const Rbyte* p = bytes.begin();
  const R_xlen_t n = bytes.size();
  const void* zero = n ? std::memchr(p, 0, n) : nullptr;
  const bool quotes = n && std::memchr(p, '"', n) != nullptr;
  R_xlen_t end = 0, lines = 0;
  const R_xlen_t all = std::count(p, p + n, '\n');
  if (quotes) {
    bool within = false;
    R_xlen_t count = 0;
    for (R_xlen_t i = 0; i < n; ++i) {
      if (p[i] == '"') within = !within;
      if (p[i] != '\n') continue;
      ++count;
      if (!within) {
        end = i + 1;
        lines = count;
      }
    }
  } else if (all) {
    R_xlen_t i = n;
    while (p[i - 1] != '\n') --i;
    end = i;
    lines = all;
  }
  const Rbyte* at = static_cast<const Rbyte*>(zero);
  const R_xlen_t place = at ? at - p + 1 : 0, before = at ? std::count(p, at, '\n') : 0;
  return NumericVector::create(
      _["end"] = static_cast<double>(end), _["lines"] = static_cast<double>(lines),
      _["all"] = static_cast<double>(all), _["zero"] = static_cast<double>(place),
      _["zero_line"] = static_cast<double>(before));
}

// Locks a folder. Returns a number for unlocking, -1 if another process has the lock, -2 if the
// folder cannot be locked.
// [[Rcpp::export]]
int file_lock_cpp(std::string folder) {
  const int fd = open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (fd < 0) return -2;
  if (flock(fd, LOCK_EX | LOCK_NB) == 0) return fd;
  const int error = errno;
  close(fd);
  return error == EWOULDBLOCK || error == EINTR ? -1 : -2;
}

// [[Rcpp::export]]
void file_unlock_cpp(int lock) {
  flock(lock, LOCK_UN);
  close(lock);
}
