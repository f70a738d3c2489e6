#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/sense.h"

static struct sk_reading reading = {.what = "pressure"};
static int before;

static void minute(struct sk_station *station)
{
    int now = sk_reading_take(&reading, station, station->weather.pressure_dhpa, 4);
    if (station->minute % 60)
        return;
    sk_log(station, SK_NORMAL, "barometer", "%d.%d hPa, %s", now / 10, now % 10,
           !before || now == before ? "steady" : now > before ? "rising" : "falling");
    before = now;
}

const struct sk_module sk_module_sense_barometer = {.name = "sense-barometer", .minute = minute};
