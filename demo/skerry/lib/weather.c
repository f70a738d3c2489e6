#include "skerry/rng.h"
#include "skerry/station.h"

static int drift(struct sk_rng *rng, int value, int step, int low, int high)
{
    value += sk_rng_between(rng, -step, step);
    return value < low ? low : value > high ? high : value;
}

void sk_weather_step(struct sk_station *station)
{
    struct sk_weather *now = &station->weather;
    int minute = sk_minute_of_day(station);
    now->wind_dkn = drift(&station->rng, now->wind_dkn, 12, 0, 620);
    now->sea_cm = drift(&station->rng, now->sea_cm, 6, 5, 900);
    now->pressure_dhpa = drift(&station->rng, now->pressure_dhpa, 3, 9500, 10500);
    /* Fog comes up when the wind drops and goes when it rises. */
    int pull = now->wind_dkn < 120 ? -220 : 160;
    now->visibility_m = drift(&station->rng, now->visibility_m + pull, 300, 150, 24000);
    now->dark = minute >= 19 * 60 || minute < 6 * 60;
}
