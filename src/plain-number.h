// Decimal numbers written as text: see plain-number.cpp.
#ifndef VETUSTA_PLAIN_NUMBER_H
#define VETUSTA_PLAIN_NUMBER_H

// The double that is nearest to what is written between the two; NaN for what is no number. Blanks
// around it count for nothing.
double number_of(const char* p, const char* end);

#endif
