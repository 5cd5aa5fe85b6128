// Blocks, files and instants, in one compilation unit.
#include "block-numbers.cpp"
#include "block-read.cpp"
#include "block-write.cpp"
#include "bytes-hex.cpp"
#include "descriptor.cpp"
#include "file-whole.cpp"
#include "format-exact.cpp"
#include "time-instant.cpp"
