#include <skerry/options.h>

#include "daemon.h"
#include "skerry/lamp.h"
#include "skerry/power.h"
#ifdef SK_STATS
#include "skerry/stats.h"
#endif
#ifdef SK_SELF_CHECK
void sk_self_check(const struct sk_station *station);
#endif

void schedule_run(struct sk_station *station, int minutes)
{
    for (station->minute = 0; station->minute < minutes; station->minute++) {
        sk_weather_step(station);
        sk_lamp_minute(station);
        sk_power_minute(station);
        modules_minute(station);
#ifdef SK_REPORT
        report_minute(station);
#endif
#ifdef SK_WATCHDOG
        watchdog_minute(station);
#endif
#ifdef SK_REMOTE_CONTROL
        remote_minute(station);
#endif
#ifdef SK_STATS
        sk_stats_minute(station);
#endif
#ifdef SK_SELF_CHECK
        sk_self_check(station);
#endif
    }
#ifdef SK_STATS
    sk_stats_end(station);
#endif
}
