// JSON within the limits of R: a NUL character (\u0000) becomes the replacement character, and
// whole numbers that a double cannot hold become texts.

#include <Rcpp.h>

#include <string>

using namespace Rcpp;

namespace {

bool is_digit(unsigned char x) { return x >= '0' && x <= '9'; }

const int longest_double = 15;

}  // namespace

// [[Rcpp::export]]
RawVector json_plain_cpp(RawVector body, bool longs) {
  const char* at = reinterpret_cast<const char*>(RAW(body));
  const char* end = at + body.size();
  std::string out;
  out.reserve(body.size() + 64);
  bool text = false;
  while (at < end) {
    char x = *at;
    if (text) {
      if (x == '\\' && at + 1 < end) {
        if (end - at >= 6 && std::string(at, 6) == "\\u0000") {
          out += "\\ufffd";
          at += 6;
          continue;
        }
        out.append(at, 2);
        at += 2;
        continue;
      }
      text = x != '"';
      out += x;
      at++;
      continue;
    }
    if (x == '"') {
      text = true;
      out += x;
      at++;
      continue;
    }
    if (longs && (x == '-' || is_digit(x))) {
      const char* last = at + 1;
      while (last < end && is_digit(*last)) last++;
      long digits = (last - at) - (x == '-');
      bool whole = last == end || (*last != '.' && *last != 'e' && *last != 'E');
      if (whole) {
        bool quoted = digits > longest_double;
        if (quoted) out += '"';
        out.append(at, last - at);
        if (quoted) out += '"';
      } else {
        while (last < end && (is_digit(*last) || *last == '.' || *last == 'e' || *last == 'E' ||
                              *last == '+' || *last == '-'))
          last++;
        out.append(at, last - at);
      }
      at = last;
      continue;
    }
    out += x;
    at++;
  }
  RawVector result(out.size());
  std::copy(out.begin(), out.end(), reinterpret_cast<char*>(RAW(result)));
  return result;
}
