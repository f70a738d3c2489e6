#include <skerry/options.h>

#include "skerry/link.h"
#include "skerry/log.h"
#include "skerry/module.h"

static void minute(struct sk_station *station)
{
    char code[96];
    if (station->minute % 60)
        return;
    int dots = sk_morse(code, sizeof code, SK_CALL_SIGN);
    sk_log(station, SK_NORMAL, "beacon", "%s(%d s)", code, dots * 1200 / SK_MORSE_SPEED / 1000);
    station->sent++;
}

const struct sk_module sk_module_link_beacon = {.name = "link-beacon", .minute = minute};
