// Parses JSON text in place, to a limited depth.
#ifndef VETUSTA_JSON_PARSE_H
#define VETUSTA_JSON_PARSE_H
#include <rapidjson/document.h>
#include <rapidjson/reader.h>

// Builds a document, and stops at a depth at which recursive readers would run out of stack.
class Limited {
 public:
  explicit Limited(rapidjson::Document& document) : to_(document) {}
  bool Null() { return to_.Null(); }
  bool Bool(bool x) { return to_.Bool(x); }
  bool Int(int x) { return to_.Int(x); }
  bool Uint(unsigned x) { return to_.Uint(x); }
  bool Int64(int64_t x) { return to_.Int64(x); }
  bool Uint64(uint64_t x) { return to_.Uint64(x); }
  bool Double(double x) { return to_.Double(x); }
  bool RawNumber(const char* x, rapidjson::SizeType n, bool copy) {
    return to_.RawNumber(x, n, copy);
  }
  bool String(const char* x, rapidjson::SizeType n, bool copy) { return to_.String(x, n, copy); }
  bool Key(const char* x, rapidjson::SizeType n, bool copy) { return to_.Key(x, n, copy); }
  bool StartObject() { return ++depth_ <= deepest && to_.StartObject(); }
  bool EndObject(rapidjson::SizeType n) { return --depth_, to_.EndObject(n); }
  bool StartArray() { return ++depth_ <= deepest && to_.StartArray(); }
  bool EndArray(rapidjson::SizeType n) { return --depth_, to_.EndArray(n); }

 private:
  static const int deepest = 500;
  rapidjson::Document& to_;
  int depth_ = 0;
};

// Parses a text in place; the texts of the document are parts of it.
struct Parser {
  char* text;
  rapidjson::Reader reader;
  bool operator()(rapidjson::Document& document) {
    const unsigned flags = rapidjson::kParseInsituFlag | rapidjson::kParseFullPrecisionFlag |
                           rapidjson::kParseValidateEncodingFlag | rapidjson::kParseNanAndInfFlag;
    rapidjson::InsituStringStream stream(text);
    Limited to(document);
    return static_cast<bool>(reader.Parse<flags>(stream, to));
  }
};

#endif
