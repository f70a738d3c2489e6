#include "skerry/power.h"

int sk_solar_watts(const struct sk_station *station)
{
    int minute = sk_minute_of_day(station), from_noon = minute > 720 ? minute - 720 : 720 - minute;
    int watts = 400 - from_noon;
    if (station->weather.visibility_m < 2000)
        watts /= 4;
    return watts > 0 ? watts : 0;
}
