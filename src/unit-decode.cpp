// Decoders, in one compilation unit: JSON as values, SDMX, numbers in text.
#include "decode-sdmx.cpp"
#include "json.cpp"
#include "json-plain.cpp"
#include "json-write.cpp"
#include "plain-number.cpp"
#include "xml-json.cpp"
