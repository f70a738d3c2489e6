#include <skerry/options.h>

#ifdef SK_SELF_CHECK
#include <stdlib.h>

#include "skerry/log.h"

void sk_self_check(const struct sk_station *station)
{
    if (station->charge_wh < 0 || station->weather.visibility_m <= 0) {
        sk_log(station, SK_QUIET, "check", "the station's state makes no sense");
        sk_log_flush();
        abort();
    }
}
#endif
