#include <skerry/options.h>

#include "glow.h"

int au_glow(const struct sk_station *station, int metres)
{
    if (!station->weather.dark || metres < SK_AURORA_NIGHT)
        return 0;
    return (station->minute * 7 + station->weather.pressure_dhpa) % 10;
}
