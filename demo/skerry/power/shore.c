#include "skerry/power.h"

int sk_shore_watts(void)
{
    return 6000;
}
