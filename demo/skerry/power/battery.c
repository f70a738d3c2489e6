#include <skerry/options.h>

#include "skerry/power.h"

int sk_battery_size(void)
{
    return SK_BATTERY_SIZE;
}

int sk_battery_reserve(void)
{
    return SK_BATTERY_SIZE * SK_POWER_RESERVE / 100;
}
