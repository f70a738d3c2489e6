#include "skerry/stats.h"

#include "skerry/log.h"

static int lit, foggy, worst_wind;

void sk_stats_minute(const struct sk_station *station)
{
    lit += station->lamp_lit;
    foggy += sk_in_fog(station, 1000);
    if (station->weather.wind_dkn > worst_wind)
        worst_wind = station->weather.wind_dkn;
}

void sk_stats_end(const struct sk_station *station)
{
    sk_log(station, SK_NORMAL, "watch", "lamp lit %d min, thick fog %d min, strongest wind %d.%d kn", lit, foggy,
           worst_wind / 10, worst_wind % 10);
    sk_log(station, SK_NORMAL, "watch", "%d signals sounded, %d messages sent", station->sounded, station->sent);
}
