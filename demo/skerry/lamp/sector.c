#include <skerry/options.h>

#include "skerry/lamp.h"
#include "skerry/log.h"

void sk_sector_log(const struct sk_station *station)
{
    sk_log(station, SK_NORMAL, "sectors", "from north: %s", SK_SECTORS);
}
