#include "glow.h"
#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/sense.h"

static struct sk_reading reading = {.what = "glow"};
static int brightest;

static void minute(struct sk_station *station)
{
    int metres = sk_reading_take(&reading, station, station->weather.visibility_m, 80);
    int glow = au_glow(station, metres);
    if (glow > brightest) {
        brightest = glow;
        sk_log(station, SK_NORMAL, "aurora", "glow %d of 9", glow);
    }
}

static void end(struct sk_station *station)
{
    sk_log(station, SK_NORMAL, "aurora", brightest ? "a night to remember" : "nothing but stars");
}

const struct sk_module sk_module_sense_aurora = {.name = "sense-aurora", .minute = minute, .end = end};
