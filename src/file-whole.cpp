// Files that are there whole or not at all: what a path is, and bytes that are on the disk before
// they take a name.
#include <Rcpp.h>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
using namespace Rcpp;

// All of the bytes, however many the system takes at a time: 0, or the number of the error.
static int write_all(int fd, RawVector bytes) {
  const unsigned char* at = RAW(bytes);
  size_t left = bytes.size();
  while (left > 0) {
    const ssize_t n = write(fd, at, left);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return n < 0 ? errno : ENOSPC;
    at += n;
    left -= n;
  }
  return 0;
}

// "none", "file", "folder", "link", or "other" for a device, a pipe or a socket; and whether it is
// the user's own.
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

// Writes bytes to a new file and has the disk keep them; an empty text when all went well, else
// what went wrong.
// [[Rcpp::export]]
std::string file_write_cpp(std::string path, RawVector bytes, int mode) {
  unlink(path.c_str());
  const int fd = open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
  if (fd < 0) return std::strerror(errno);
  const int error = write_all(fd, bytes);
  if (error != 0) {
    close(fd);
    return std::strerror(error);
  }
  const bool kept = fsync(fd) == 0;
  const std::string why = kept ? "" : std::strerror(errno);
  if (close(fd) != 0 && kept) return std::strerror(errno);
  return why;
}

// Has the disk keep a file that another program part has written.
// [[Rcpp::export]]
std::string file_sync_cpp(std::string path) {
  const int fd = open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return std::strerror(errno);
  const bool kept = fsync(fd) == 0;
  const std::string why = kept ? "" : std::strerror(errno);
  close(fd);
  return why;
}

// Whether an open descriptor is this very file: where standard output was closed, the next file
// that is opened takes its number.
// [[Rcpp::export]]
bool descriptor_is_cpp(int fd, std::string path) {
  struct stat a, b;
  if (fstat(fd, &a) != 0) return true;
  // a file that has no name any more, as R's own of what it runs
  if (S_ISREG(a.st_mode) && a.st_nlink == 0) return true;
  return stat(path.c_str(), &b) == 0 && a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

// Writes bytes to an open descriptor, such as standard output: 0 when all went, else the number of
// the error.
// [[Rcpp::export]]
int descriptor_write_cpp(int fd, RawVector bytes) {
  // a reader that has left is told by the error, not by a signal
  struct sigaction ignored, before;
  std::memset(&ignored, 0, sizeof ignored);
  ignored.sa_handler = SIG_IGN;
  sigaction(SIGPIPE, &ignored, &before);
  const int error = write_all(fd, bytes);
  sigaction(SIGPIPE, &before, nullptr);
  return error;
}
