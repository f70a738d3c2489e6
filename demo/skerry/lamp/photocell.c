#include <skerry/options.h>

#include "skerry/lamp.h"

bool sk_photocell_dark(const struct sk_station *station)
{
    int minute = sk_minute_of_day(station), sunset = 19 * 60, sunrise = 6 * 60;
    int to_sunset = sunset - minute, lux = to_sunset > 0 ? to_sunset * 12 : 0;
    if (minute > sunrise && minute < 12 * 60)
        lux = (minute - sunrise) * 12;
    /* Fog dims the day. */
    if (station->weather.visibility_m < 2000)
        lux /= 3;
    return lux < SK_PHOTOCELL_LUX;
}
