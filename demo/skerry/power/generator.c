#include <skerry/options.h>

#include "skerry/log.h"
#include "skerry/power.h"

int sk_generator_watts(struct sk_station *station)
{
    static bool running;
#ifdef SK_POWER_BATTERY
    bool wanted = station->charge_wh < sk_battery_reserve() || (running && station->charge_wh < sk_battery_size() * 9 / 10);
#else
    bool wanted = station->drawn_w > 0;
#endif
    if (wanted != running)
        sk_log(station, SK_NORMAL, "generator", wanted ? "started" : "stopped");
    running = wanted;
    return running ? 2500 : 0;
}
