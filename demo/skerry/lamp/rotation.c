#include <skerry/options.h>

#include "skerry/lamp.h"
#include "skerry/log.h"

void sk_rotation_log(const struct sk_station *station)
{
    sk_log(station, SK_CHATTY, "lens", "turns once in %d s", SK_ROTATION_SECONDS);
}
