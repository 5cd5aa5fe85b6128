// Scans the tags of an XML message: names, attributes and text; nothing is kept. A document type,
// and with it every entity except the five of XML, is refused.
#ifndef VETUSTA_XML_SCANNER_H
#define VETUSTA_XML_SCANNER_H
#include <Rcpp.h>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

namespace vetusta {

struct View {
  const char* p;
  size_t n;
  bool is(const char* text) const { return n == std::strlen(text) && std::memcmp(p, text, n) == 0; }
  std::string text() const { return std::string(p, n); }
};

inline View local_name(const View& name) {
  const void* colon = std::memchr(name.p, ':', name.n);
  if (colon == nullptr) return name;
  const size_t skip = static_cast<const char*>(colon) - name.p + 1;
  return View{name.p + skip, name.n - skip};
}

inline bool is_space(char c) {
  return c == ' ' || c == '\n' || c == '\t' || c == '\r';
}

inline void append_utf8(std::string& out, unsigned long code) {
  if (code < 0x80) {
    out += static_cast<char>(code);
  } else if (code < 0x800) {
    out += static_cast<char>(0xC0 | (code >> 6));
    out += static_cast<char>(0x80 | (code & 0x3F));
  } else if (code < 0x10000) {
    out += static_cast<char>(0xE0 | (code >> 12));
    out += static_cast<char>(0x80 | ((code >> 6) & 0x3F));
    out += static_cast<char>(0x80 | (code & 0x3F));
  } else {
    out += static_cast<char>(0xF0 | (code >> 18));
    out += static_cast<char>(0x80 | ((code >> 12) & 0x3F));
    out += static_cast<char>(0x80 | ((code >> 6) & 0x3F));
    out += static_cast<char>(0x80 | (code & 0x3F));
  }
}

struct Attribute {
  View name;
  std::string value;
};

class Scanner {
 public:
  Scanner(const char* begin, size_t size) : start(begin), at(begin), end(begin + size) {}

  // The next tag: 1 begin, 2 end, 3 begin and end in one, 0 the end of the message. `text` has the
  // text before it.
  int next() {
    text.clear();
    for (;;) {
      const char* open = static_cast<const char*>(std::memchr(at, '<', end - at));
      if (open == nullptr) {
        if (!stack.empty()) fail("the message is cut short");
        return 0;
      }
      if (keep_text) decode(at, open, text);
      at = open;
      if (starts("<!--")) {
        skip_past("-->");
      } else if (starts("<![CDATA[")) {
        const char* from = at + 9;
        skip_past("]]>");
        if (keep_text) text.append(from, at - 3 - from);
      } else if (starts("<?")) {
        skip_past("?>");
      } else if (starts("<!")) {
        fail("the message has a document type, which is refused");
      } else {
        return tag();
      }
    }
  }

  View name;
  std::vector<Attribute> attributes;
  size_t used = 0;
  std::string text;
  bool keep_text = false;
  size_t depth() const { return stack.size(); }
  size_t position() const { return at - start; }

  void fail(const char* what) const {
    Rcpp::stop(std::string(what) + "@" + std::to_string(position()));
  }

 private:
  const char *start, *at, *end;
  std::vector<View> stack;

  bool starts(const char* word) const {
    const size_t n = std::strlen(word);
    return static_cast<size_t>(end - at) >= n && std::memcmp(at, word, n) == 0;
  }

  void skip_past(const char* word) {
    const size_t n = std::strlen(word);
    for (const char* p = at; p + n <= end; ++p) {
      if (*p == word[0] && std::memcmp(p, word, n) == 0) {
        at = p + n;
        return;
      }
    }
    fail("the message is cut short");
  }

  int tag() {
    ++at;
    const bool closing = at < end && *at == '/';
    if (closing) ++at;
    const char* from = at;
    while (at < end && !is_space(*at) && *at != '>' && *at != '/') ++at;
    name = View{from, static_cast<size_t>(at - from)};
    if (name.n == 0) fail("a tag without a name");
    used = 0;
    for (;;) {
      while (at < end && is_space(*at)) ++at;
      if (at >= end) fail("the message is cut short");
      if (*at == '>') {
        ++at;
        if (closing) {
          if (stack.empty() || stack.back().n != name.n ||
              std::memcmp(stack.back().p, name.p, name.n) != 0)
            fail("a tag is closed that is not open");
          stack.pop_back();
        } else {
          stack.push_back(name);
        }
        name = local_name(name);
        return closing ? 2 : 1;
      }
      if (*at == '/') {
        if (at + 1 >= end) fail("the message is cut short");
        if (at[1] != '>' || closing) fail("a tag is malformed");
        at += 2;
        name = local_name(name);
        return 3;
      }
      if (closing) fail("a tag is malformed");
      attribute();
    }
  }

  void attribute() {
    const char* from = at;
    while (at < end && *at != '=' && !is_space(*at) && *at != '>' && *at != '<') ++at;
    const View word{from, static_cast<size_t>(at - from)};
    while (at < end && is_space(*at)) ++at;
    if (at >= end) fail("the message is cut short");
    if (*at != '=' || word.n == 0) fail("an attribute is malformed");
    ++at;
    while (at < end && is_space(*at)) ++at;
    if (at >= end) fail("the message is cut short");
    const char quote = *at;
    if (quote != '"' && quote != '\'') fail("an attribute is malformed");
    ++at;
    const char* close = static_cast<const char*>(std::memchr(at, quote, end - at));
    if (close == nullptr) fail("the message is cut short");
    if (attributes.size() <= used) attributes.emplace_back();
    attributes[used].name = word;
    attributes[used].value.clear();
    decode(at, close, attributes[used].value);
    ++used;
    at = close + 1;
  }

  void decode(const char* from, const char* to, std::string& out) const {
    while (from < to) {
      const char* amp = static_cast<const char*>(std::memchr(from, '&', to - from));
      if (amp == nullptr) {
        out.append(from, to - from);
        return;
      }
      out.append(from, amp - from);
      const char* semi = static_cast<const char*>(std::memchr(amp, ';', to - amp));
      if (semi == nullptr) fail("an entity is malformed");
      const View entity{amp + 1, static_cast<size_t>(semi - amp - 1)};
      if (entity.is("amp"))
        out += '&';
      else if (entity.is("lt"))
        out += '<';
      else if (entity.is("gt"))
        out += '>';
      else if (entity.is("quot"))
        out += '"';
      else if (entity.is("apos"))
        out += '\'';
      else if (entity.n > 1 && entity.p[0] == '#') {
        const bool hex = entity.p[1] == 'x';
        const unsigned long code =
            std::strtoul(entity.text().c_str() + (hex ? 2 : 1), nullptr, hex ? 16 : 10);
        if (code == 0 || code > 0x10FFFF) fail("an entity is malformed");
        append_utf8(out, code);
      } else {
        fail("the message has an entity of its own, which is refused");
      }
      from = semi + 1;
    }
  }
};

}  // namespace vetusta

#endif
