#include <stdio.h>
#include <string.h>

#include "skerry/fog.h"
#include <skerry/options.h>

bool sk_pattern_due(const struct sk_station *station, int period)
{
    return sk_in_fog(station, SK_FOG_RANGE) && station->minute % period == 0;
}

void sk_pattern_blasts(char *to, int size, int blasts)
{
    to[0] = 0;
    for (int i = 0; i < blasts && (int)strlen(to) + 5 < size; i++)
        strcat(to, i ? " BOO" : "BOO");
}
