#include "skerry/fog.h"
#include "skerry/log.h"
#include "skerry/module.h"

static void start(struct sk_station *station)
{
    sk_log(station, SK_CHATTY, "bell", "the clockwork is wound");
}

static void minute(struct sk_station *station)
{
    if (!sk_pattern_due(station, 4))
        return;
    sk_log(station, SK_NORMAL, "bell", "ding");
    station->sounded++;
}

const struct sk_module sk_module_fog_bell = {.name = "fog-bell", .start = start, .minute = minute};
