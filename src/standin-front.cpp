// A front for a stand-in service that spoils connections below HTTP, which no web server can do. It
// passes bytes between callers and the service, and spoils the connection of every N-th request. It
// listens on 127.0.0.1 only.
#include <Rcpp.h>
#include <string>
#ifndef _WIN32
#include <arpa/inet.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>
#include <cerrno>
#include <chrono>
#include <vector>

namespace {

typedef std::chrono::steady_clock Clock;

struct Pair {
  int caller;
  int service;
  bool asked = false;   // a request is under way
  bool spoilt = false;  // and its connection is to be treated
  std::string held;     // what is not passed on yet
  Clock::time_point next = Clock::now();
};

struct Front {
  int port, service_port, every, listener = -1;
  double away;  // seconds for which nothing listens, when the port is closed
  std::string kind;
  long requests = 0;
  std::vector<Pair> pairs;
  Clock::time_point opens = Clock::now();
  ~Front() {
    for (Pair& pair : pairs) shut(pair, false);
    if (listener >= 0) close(listener);
  }

  static sockaddr_in address(int port) {
    sockaddr_in out = {};
    out.sin_family = AF_INET;
    out.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    out.sin_port = htons(static_cast<uint16_t>(port));
    return out;
  }

  void open() {
    listener = socket(AF_INET, SOCK_STREAM, 0);
    int yes = 1;
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    sockaddr_in at = address(port);
    if (bind(listener, reinterpret_cast<sockaddr*>(&at), sizeof at) < 0 ||
        listen(listener, 64) < 0) {
      close(listener);
      listener = -1;
      Rcpp::stop("the port is taken");
    }
    // of port 0 the system has made a free one
    socklen_t size = sizeof at;
    if (port == 0 && getsockname(listener, reinterpret_cast<sockaddr*>(&at), &size) == 0)
      port = ntohs(at.sin_port);
  }

  static void shut(Pair& pair, bool reset) {
    if (pair.caller >= 0) {
      // without lingering, closing a socket sends a reset in place of an end
      linger none = {1, 0};
      if (reset) setsockopt(pair.caller, SOL_SOCKET, SO_LINGER, &none, sizeof none);
      close(pair.caller);
    }
    if (pair.service >= 0) close(pair.service);
    pair.caller = pair.service = -1;
  }

  static bool pass(int to, const char* bytes, size_t size) {
    while (size > 0) {
      ssize_t sent = send(to, bytes, size, MSG_NOSIGNAL);
      if (sent < 0 && errno == EINTR) continue;
      if (sent <= 0) return false;
      bytes += sent;
      size -= static_cast<size_t>(sent);
    }
    return true;
  }

  void accept_one() {
    int caller = accept(listener, nullptr, nullptr);
    if (caller < 0) return;
    int service = socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in at = address(service_port);
    Pair pair;
    pair.caller = caller;
    pair.service = service;
    if (connect(service, reinterpret_cast<sockaddr*>(&at), sizeof at) < 0)
      shut(pair, false);
    else
      pairs.push_back(pair);
  }

  // Bytes of the caller; the first ones after an answer begin a request.
  void from_caller(Pair& pair, const char* bytes, size_t size) {
    if (kind == "tls") {
      // the fatal alert "handshake failure" of RFC 8446, section 6, whatever the caller sends
      const char alert[] = {0x15, 0x03, 0x03, 0x00, 0x02, 0x02, 0x28};
      pass(pair.caller, alert, sizeof alert);
      return shut(pair, false);
    }
    if (!pair.asked) {
      pair.asked = true;
      pair.spoilt = ++requests % every == 0;
    }
    if (pair.spoilt && kind == "closed") return shut(pair, false);
    if (pair.spoilt && kind == "reset") return shut(pair, true);
    if (pair.spoilt && kind == "silent") return;
    if (pair.spoilt && kind == "away") {
      close(listener);
      listener = -1;
      opens = Clock::now() + std::chrono::milliseconds(static_cast<long>(away * 1000));
      for (Pair& other : pairs) shut(other, false);
      return;
    }
    if (!pass(pair.service, bytes, size)) shut(pair, false);
  }

  void from_service(Pair& pair, const char* bytes, size_t size) {
    pair.asked = false;
    if (pair.spoilt && kind == "broken") {
      // headers and a part of the body, then the end
      pair.held.append(bytes, size);
      size_t head = pair.held.find("\r\n\r\n");
      if (head == std::string::npos || head + 5 >= pair.held.size()) return;
      pass(pair.caller, pair.held.data(), head + 4 + (pair.held.size() - head - 4) / 2);
      return shut(pair, false);
    }
    if (pair.spoilt && kind == "trickle") {
      pair.held.append(bytes, size);
      return;
    }
    if (!pass(pair.caller, bytes, size)) shut(pair, false);
  }

  void read_from(Pair& pair, bool caller) {
    char bytes[65536];
    ssize_t size = recv(caller ? pair.caller : pair.service, bytes, sizeof bytes, 0);
    if (size <= 0) {
      shut(pair, false);
    } else if (caller) {
      from_caller(pair, bytes, static_cast<size_t>(size));
    } else {
      from_service(pair, bytes, static_cast<size_t>(size));
    }
  }

  void turn(int milliseconds) {
    if (listener < 0 && Clock::now() >= opens) open();
    std::vector<pollfd> watched;
    if (listener >= 0) watched.push_back({listener, POLLIN, 0});
    size_t first = watched.size();
    for (Pair& pair : pairs) {
      watched.push_back({pair.caller, POLLIN, 0});
      watched.push_back({pair.service, POLLIN, 0});
    }
    if (poll(watched.data(), watched.size(), milliseconds) > 0) {
      size_t known = pairs.size();
      if (first == 1 && watched[0].revents) accept_one();
      for (size_t i = 0; i < known; i++) {
        if (watched[first + 2 * i].revents && pairs[i].caller >= 0) read_from(pairs[i], true);
        if (watched[first + 2 * i + 1].revents && pairs[i].service >= 0) read_from(pairs[i], false);
      }
    }
    for (Pair& pair : pairs) {
      if (kind != "trickle" || pair.held.empty() || pair.caller < 0 || Clock::now() < pair.next)
        continue;
      if (!pass(pair.caller, pair.held.data(), 1)) shut(pair, false);
      pair.held.erase(0, 1);
      pair.next = Clock::now() + std::chrono::milliseconds(300);
    }
    std::vector<Pair> living;
    for (Pair& pair : pairs)
      if (pair.caller >= 0) living.push_back(pair);
    pairs.swap(living);
  }
};

}  // namespace
#else
namespace {
struct Front {
  int port, service_port, every;
  double away;
  std::string kind;
  void open() { Rcpp::stop("connections are not spoilt on this system"); }
  void turn(int) {}
};
}  // namespace
#endif

// [[Rcpp::export]]
SEXP front_open(int port, int service_port, std::string kind, int every, double away) {
  Rcpp::XPtr<Front> front(new Front(), true);
  front->port = port;
  front->service_port = service_port;
  front->kind = kind;
  front->every = every;
  front->away = away;
  front->open();
  return front;
}

// [[Rcpp::export]]
int front_port(SEXP front) {
  return Rcpp::XPtr<Front>(front)->port;
}

// [[Rcpp::export]]
void front_turn(SEXP front, int milliseconds) {
  Rcpp::XPtr<Front>(front)->turn(milliseconds);
}

// [[Rcpp::export]]
void front_close(SEXP front) {
  Rcpp::XPtr<Front>(front).release();
}
