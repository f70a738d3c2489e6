#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/sense.h"

static struct sk_reading reading = {.what = "sea"};

static const char *name(int cm)
{
    return cm < 10 ? "calm" : cm < 50 ? "smooth" : cm < 125 ? "slight" : cm < 250 ? "moderate" : cm < 400 ? "rough" : "high";
}

static void minute(struct sk_station *station)
{
    const char *before = name(reading.last);
    int cm = sk_reading_take(&reading, station, station->weather.sea_cm, 15);
    if (name(cm) != before)
        sk_log(station, SK_NORMAL, "sea", "%s, waves of %d cm", name(cm), cm);
}

const struct sk_module sk_module_sense_sea = {.name = "sense-sea", .minute = minute};
