#include <stdio.h>

#include <skerry/options.h>

#include "daemon.h"
#include "skerry/log.h"
#ifdef SK_TIDE
#include "skerry/tide.h"
#endif
#include "skerry/units.h"

void report_minute(const struct sk_station *station)
{
    char distance[24], speed[24], tide[32] = "";
    if (station->minute % SK_REPORT_EVERY)
        return;
    sk_distance(distance, sizeof distance, station->weather.visibility_m);
    sk_speed(speed, sizeof speed, station->weather.wind_dkn);
#ifdef SK_TIDE
    snprintf(tide, sizeof tide, ", tide %+d cm", sk_tide_mm(sk_minute_of_day(station)) / 10);
#endif
    sk_log(station, SK_NORMAL, "report", "wind %s, sea %d cm, one sees %s%s", speed, station->weather.sea_cm, distance, tide);
}
