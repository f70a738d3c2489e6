#include "skerry/station.h"

bool sk_in_fog(const struct sk_station *station, int range_m)
{
    return station->weather.visibility_m < range_m;
}
