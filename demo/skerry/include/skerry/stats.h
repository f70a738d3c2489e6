#ifndef SKERRY_STATS_H
#define SKERRY_STATS_H

#include "skerry/station.h"

void sk_stats_minute(const struct sk_station *station);
void sk_stats_end(const struct sk_station *station);

#endif
