#include "skerry/units.h"

#include <stdio.h>

#include <skerry/options.h>

void sk_distance(char *to, size_t size, int metres)
{
#ifdef SK_UNITS_NAUTICAL
    snprintf(to, size, "%d.%d nm", metres / 1852, metres % 1852 * 10 / 1852);
#else
    snprintf(to, size, "%d.%d km", metres / 1000, metres % 1000 / 100);
#endif
}

void sk_speed(char *to, size_t size, int tenths_of_knots)
{
#ifdef SK_UNITS_NAUTICAL
    snprintf(to, size, "%d.%d kn", tenths_of_knots / 10, tenths_of_knots % 10);
#else
    int tenths = tenths_of_knots * 514 / 1000;
    snprintf(to, size, "%d.%d m/s", tenths / 10, tenths % 10);
#endif
}
