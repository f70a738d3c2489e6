#include <ctype.h>
#include <stdlib.h>
#include <string.h>

#include "skerry/lamp.h"

int sk_character_flashes(const char *character)
{
    const char *group = strchr(character, '(');
    return group ? atoi(group + 1) : 1;
}

int sk_character_period(const char *character)
{
    const char *last = strrchr(character, ' ');
    return last && isdigit((unsigned char)last[1]) ? atoi(last + 1) : 10;
}
