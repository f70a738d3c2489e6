#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/sense.h"
#include "skerry/units.h"

static struct sk_reading reading = {.what = "visibility"};

static void minute(struct sk_station *station)
{
    char distance[24];
    int metres = sk_reading_take(&reading, station, station->weather.visibility_m, 120);
    if (station->minute % 30)
        return;
    sk_distance(distance, sizeof distance, metres > 0 ? metres : 0);
    sk_log(station, SK_NORMAL, "visibility", "%s", distance);
}

const struct sk_module sk_module_sense_visibility = {.name = "sense-visibility", .minute = minute};
