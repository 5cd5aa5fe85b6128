// Files that are there whole or not at all: what a path is, and bytes that are on the disk before
// they take a name.
#include <Rcpp.h>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include "descriptor.h"
using namespace Rcpp;

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
