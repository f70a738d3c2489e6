#include <skerry/options.h>

#include "skerry/fog.h"

static int litres = SK_COMPRESSOR_LITRES;

bool sk_tank_take(int wanted)
{
    if (litres < wanted)
        return false;
    litres -= wanted;
    return true;
}

void sk_tank_refill(void)
{
    litres += 12;
    if (litres > SK_COMPRESSOR_LITRES)
        litres = SK_COMPRESSOR_LITRES;
}
