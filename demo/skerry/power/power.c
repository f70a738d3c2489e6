#include "skerry/power.h"

#include <skerry/options.h>

#include "skerry/log.h"

static int sources(struct sk_station *station)
{
    int watts = 0;
    (void)station;
#ifdef SK_POWER_SOLAR
    watts += sk_solar_watts(station);
#endif
#ifdef SK_POWER_GENERATOR
    watts += sk_generator_watts(station);
#endif
#ifdef SK_POWER_SHORE
    watts += sk_shore_watts();
#endif
    return watts;
}

void sk_power_start(struct sk_station *station)
{
#ifdef SK_POWER_BATTERY
    station->charge_wh = sk_battery_size() * 8 / 10;
    sk_log(station, SK_CHATTY, "power", "batteries hold %d Wh", station->charge_wh);
#else
    sk_log(station, SK_CHATTY, "power", "no batteries");
#endif
}

void sk_power_minute(struct sk_station *station)
{
    static int rest;
    rest += sources(station) - station->drawn_w;
#ifdef SK_POWER_BATTERY
    station->charge_wh += rest / 60;
    rest %= 60;
    if (station->charge_wh > sk_battery_size())
        station->charge_wh = sk_battery_size();
    if (station->charge_wh < 0)
        station->charge_wh = 0;
#else
    rest = 0;
#endif
}
