#include "daemon.h"
#include "skerry/log.h"
#include "skerry/rng.h"

void remote_minute(struct sk_station *station)
{
    if (sk_rng_between(&station->rng, 0, 99) != 0)
        return;
    sk_log(station, SK_NORMAL, "remote", "the shore asks: light %d, are you lit? %s", station->number,
           station->lamp_lit ? "yes" : "no");
}
