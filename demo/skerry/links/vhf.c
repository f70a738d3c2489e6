#include <stdio.h>

#include <skerry/options.h>

#include "skerry/link.h"
#include "skerry/log.h"
#include "skerry/module.h"
#include "skerry/rng.h"

static void start(struct sk_station *station)
{
#ifdef SK_PHONETIC
    char spelled[96];
    sk_spell(spelled, sizeof spelled, SK_CALL_SIGN);
#else
    const char *spelled = SK_CALL_SIGN;
#endif
    sk_log(station, SK_NORMAL, "vhf", "channel %d, this is %s", SK_VHF_CHANNEL, spelled);
}

static void minute(struct sk_station *station)
{
    char message[120];
    if (sk_rng_between(&station->rng, 0, 44) == 0) {
        snprintf(message, sizeof message, "a vessel asks for the visibility off %s", station->name);
        sk_queue_put(message);
    }
    if (!sk_queue_take(message, sizeof message))
        return;
#ifdef SK_FRAME_CHECK
    char framed[160];
    sk_frame(framed, sizeof framed, message);
    sk_log(station, SK_NORMAL, "vhf", "%s", framed);
#else
    sk_log(station, SK_NORMAL, "vhf", "%s", message);
#endif
    station->sent++;
}

const struct sk_module sk_module_link_vhf = {.name = "link-vhf", .start = start, .minute = minute};
