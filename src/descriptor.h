// Writes bytes to a descriptor.
#ifndef VETUSTA_DESCRIPTOR_H
#define VETUSTA_DESCRIPTOR_H
#include <cstddef>

// Writes all bytes, however many the system accepts at a time. Returns 0, or the error number.
int write_all(int fd, const unsigned char* at, size_t left);

#endif
