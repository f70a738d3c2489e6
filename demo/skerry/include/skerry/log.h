#ifndef SKERRY_LOG_H
#define SKERRY_LOG_H

#include "skerry/station.h"

enum sk_level { SK_QUIET, SK_NORMAL, SK_CHATTY };

void sk_log(const struct sk_station *station, enum sk_level level, const char *who, const char *format, ...)
    __attribute__((format(printf, 4, 5)));
void sk_log_flush(void);

#endif
