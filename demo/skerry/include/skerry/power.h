#ifndef SKERRY_POWER_H
#define SKERRY_POWER_H

#include "skerry/station.h"

void sk_power_start(struct sk_station *station);
void sk_power_minute(struct sk_station *station);
bool sk_power_allows(const struct sk_station *station, int watts);
int sk_battery_size(void);
int sk_battery_reserve(void);
int sk_solar_watts(const struct sk_station *station);
int sk_generator_watts(struct sk_station *station);
int sk_shore_watts(void);

#endif
