#include <skerry/options.h>

#include "skerry/power.h"

bool sk_power_allows(const struct sk_station *station, int watts)
{
#ifdef SK_POWER_BATTERY
    return watts == 0 || station->charge_wh * 100 > sk_battery_size() * 2;
#else
    (void)station;
    return watts < 2000;
#endif
}
