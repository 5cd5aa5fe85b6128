// RFC 3339 instants: see time-instant.cpp.
#ifndef VETUSTA_TIME_INSTANT_H
#define VETUSTA_TIME_INSTANT_H

// Seconds since 1970 of the written clock time, minus the offset if there is one (`local` says that
// there is none); NaN if the text is not an instant.
double instant_of(const char* p, const char* end, bool& local);

#endif
