#include "skerry/lamp.h"
#include "skerry/log.h"
#include "skerry/rng.h"

bool sk_standby_take_over(struct sk_station *station)
{
    bool lit = sk_rng_between(&station->rng, 0, 19) != 0;
    sk_log(station, SK_NORMAL, "standby", lit ? "the second lamp is lit" : "the second lamp fails too");
    return lit;
}
