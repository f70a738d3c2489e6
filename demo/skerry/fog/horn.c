#include <skerry/options.h>

#include "skerry/fog.h"
#include "skerry/log.h"
#include "skerry/module.h"

static void minute(struct sk_station *station)
{
    char blasts[32];
    sk_tank_refill();
    if (!sk_pattern_due(station, 5))
        return;
    if (!sk_tank_take(60)) {
        sk_log(station, SK_NORMAL, "horn", "no air");
        return;
    }
    sk_pattern_blasts(blasts, sizeof blasts, 2);
    sk_log(station, SK_NORMAL, "horn", "%s", blasts);
    station->sounded++;
#ifdef SK_HORN_SPEAKER
    sk_speaker_play(2);
#endif
}

const struct sk_module sk_module_fog_horn = {.name = "fog-horn", .minute = minute};
