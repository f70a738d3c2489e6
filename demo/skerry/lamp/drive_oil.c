#include "skerry/lamp.h"
#include "skerry/rng.h"

const char *sk_drive_name(void)
{
    return "oil burner";
}

int sk_drive_draw(void)
{
    return 0;
}

bool sk_drive_strike(struct sk_station *station)
{
    return sk_rng_between(&station->rng, 0, 29) != 0;
}
