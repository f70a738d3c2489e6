#include "skerry/station.h"

int sk_minute_of_day(const struct sk_station *station)
{
    return (station->started + station->minute) % (24 * 60);
}
