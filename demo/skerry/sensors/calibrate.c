#include <string.h>

#include "skerry/sense.h"

static const struct {
    const char *what;
    int percent, offset;
} table[] = {{"sea", 104, -3}, {"visibility", 97, 40}, {"wind", 102, 0}, {"pressure", 100, 12}};

int sk_calibrate(const char *what, int value)
{
    for (unsigned i = 0; i < sizeof table / sizeof *table; i++)
        if (!strcmp(table[i].what, what))
            return value * table[i].percent / 100 + table[i].offset;
    return value;
}
