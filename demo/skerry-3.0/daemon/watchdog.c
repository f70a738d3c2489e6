#include <skerry/options.h>

#include "daemon.h"
#include "skerry/log.h"

void watchdog_minute(const struct sk_station *station)
{
    static int dark;
    dark = station->weather.dark && !station->lamp_lit ? dark + 1 : 0;
    if (dark * 60 == (SK_WATCHDOG_SECONDS + 59) / 60 * 60)
        sk_log(station, SK_QUIET, "watchdog", "no light for %d minutes", dark);
}
