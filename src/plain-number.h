// Decimal text to numbers: see plain-number.cpp.
#ifndef VETUSTA_PLAIN_NUMBER_H
#define VETUSTA_PLAIN_NUMBER_H

// The double nearest to the text between two pointers; NaN if it is not a number. Spaces around it
// are ignored.
double number_of(const char* p, const char* end);

#endif
