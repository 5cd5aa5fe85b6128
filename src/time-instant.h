// Instants as RFC 3339 writes them: see time-instant.cpp.
#ifndef VETUSTA_TIME_INSTANT_H
#define VETUSTA_TIME_INSTANT_H

// Seconds since 1970 on the clock that is written, less the offset where there is one (`local` says
// whether not); NaN for what is no instant.
double instant_of(const char* p, const char* end, bool& local);

#endif
