#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/sense.h"
#include "skerry/units.h"

static struct sk_reading reading = {.what = "wind"};

static void minute(struct sk_station *station)
{
    char speed[24];
    int wind = sk_reading_take(&reading, station, station->weather.wind_dkn, 10);
    if (station->minute % 20)
        return;
    sk_speed(speed, sizeof speed, wind > 0 ? wind : 0);
    sk_log(station, SK_NORMAL, "wind", "%s", speed);
}

const struct sk_module sk_module_sense_wind = {.name = "sense-wind", .minute = minute};
