#include <skerry/options.h>

#include "skerry/lamp.h"
#include "skerry/rng.h"

const char *sk_drive_name(void)
{
    return "diode array";
}

int sk_drive_draw(void)
{
    return SK_LAMP_WATTS;
}

bool sk_drive_strike(struct sk_station *station)
{
    return sk_rng_between(&station->rng, 0, 199) != 0;
}
