// Bytes to a descriptor.
#ifndef VETUSTA_DESCRIPTOR_H
#define VETUSTA_DESCRIPTOR_H
#include <cstddef>

// All of the bytes, however many the system takes at a time: 0, or the number of the error.
int write_all(int fd, const unsigned char* at, size_t left);

#endif
