// An XML tree as JSON: an element is an object of its attributes and children,
// children of one name are an array, and an element with text alone is a text.
#include <Rcpp.h>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

namespace {

struct Tree {
  std::vector<std::string> names;
  std::vector<int> counts;
  std::vector<std::string> texts;
  Rcpp::List attributes;
  std::unordered_set<std::string> arrays;
  std::string out;

  // strings are written with JSON's escapes
  void text(const std::string& value) {
    static const char hex[] = "0123456789abcdef";
    out += '"';
    for (unsigned char c : value) {
      if (c == '"' || c == '\\') {
        out += '\\';
        out += static_cast<char>(c);
      } else if (c < 0x20) {
        out += "\\u00";
        out += hex[c >> 4];
        out += hex[c & 15];
      } else {
        out += static_cast<char>(c);
      }
    }
    out += '"';
  }

  // Writes the element at a position in document order; returns the position
  // after its last descendant.
  size_t element(size_t at, int depth) {
    if (depth > 200) Rcpp::stop("nested too deeply");
    SEXP given = attributes[at];
    Rcpp::CharacterVector values =
        given == R_NilValue ? Rcpp::CharacterVector(0) : Rcpp::CharacterVector(given);
    if (counts[at] == 0 && values.size() == 0) {
      if (texts[at].empty()) {
        out += "null";
      } else {
        text(texts[at]);
      }
      return at + 1;
    }
    // the children by name, in the order of their first
    std::vector<std::string> order;
    std::unordered_map<std::string, std::vector<size_t>> places;
    size_t next = at + 1;
    for (int child = 0; child < counts[at]; ++child) {
      auto& same = places[names[next]];
      if (same.empty()) order.push_back(names[next]);
      same.push_back(next);
      next = past(next);
    }
    out += '{';
    bool first = true;
    if (values.size()) {
      Rcpp::CharacterVector labels = values.names();
      for (R_xlen_t i = 0; i < values.size(); ++i) {
        std::string label = Rcpp::as<std::string>(labels[i]);
        // an attribute and a child of one name would be one member twice
        if (places.count(label)) continue;
        if (!first) out += ',';
        first = false;
        text(label);
        out += ':';
        text(Rcpp::as<std::string>(values[i]));
      }
    }
    if (counts[at] == 0 && !texts[at].empty()) {
      if (!first) out += ',';
      first = false;
      out += "\"text\":";
      text(texts[at]);
    }
    for (const auto& name : order) {
      const auto& same = places[name];
      if (!first) out += ',';
      first = false;
      text(name);
      out += ':';
      bool array = same.size() > 1 || arrays.count(name);
      if (array) out += '[';
      for (size_t i = 0; i < same.size(); ++i) {
        if (i) out += ',';
        element(same[i], depth + 1);
      }
      if (array) out += ']';
    }
    out += '}';
    return next;
  }

  std::vector<size_t> ends;
  size_t past(size_t at) const { return ends[at]; }

  // the end of each element's descendants, from the last element backwards
  void measure() {
    size_t n = names.size();
    ends.assign(n, 0);
    for (size_t i = n; i-- > 0;) {
      size_t next = i + 1;
      for (int child = 0; child < counts[i]; ++child) {
        if (next >= n) Rcpp::stop("the tree is not whole");
        next = ends[next];
      }
      ends[i] = next;
    }
  }
};

}  // namespace

// [[Rcpp::export]]
Rcpp::RawVector xml_json_cpp(std::vector<std::string> names, std::vector<int> counts,
                             std::vector<std::string> texts, Rcpp::List attributes,
                             std::vector<std::string> arrays) {
  Tree tree;
  tree.names = std::move(names);
  tree.counts = std::move(counts);
  tree.texts = std::move(texts);
  tree.attributes = attributes;
  tree.arrays = std::unordered_set<std::string>(arrays.begin(), arrays.end());
  tree.measure();
  tree.out += '{';
  tree.text(tree.names[0]);
  tree.out += ':';
  tree.element(0, 0);
  tree.out += '}';
  return Rcpp::RawVector(tree.out.begin(), tree.out.end());
}
