#include "skerry/fog.h"
#include "skerry/log.h"
#include "skerry/module.h"

static void minute(struct sk_station *station)
{
    sk_tank_refill();
    if (!sk_pattern_due(station, 15) || !sk_tank_take(200))
        return;
    sk_log(station, SK_NORMAL, "siren", "OOOOOoooooo, heard twenty miles off");
    station->sounded++;
}

const struct sk_module sk_module_fog_siren = {.name = "fog-siren", .minute = minute};
