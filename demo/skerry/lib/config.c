#include "skerry/config.h"

#include <stdio.h>
#include <string.h>

#include "skerry/text.h"

static bool apply(struct sk_station *station, int *watch_minutes, const char *name, const char *value)
{
    if (!strcmp(name, "station"))
        sk_copy(station->name, sizeof station->name, value);
    else if (!strcmp(name, "character"))
        sk_copy(station->character, sizeof station->character, value);
    else if (!strcmp(name, "number"))
        return sk_number(value, &station->number);
    else if (!strcmp(name, "watch-minutes"))
        return sk_number(value, watch_minutes);
    else
        return false;
    return true;
}

int sk_config_read(const char *file, struct sk_station *station, int *watch_minutes)
{
    char line[256];
    FILE *in = fopen(file, "r");
    if (!in)
        return -1;
    for (int number = 1; fgets(line, sizeof line, in); number++) {
        char *text = sk_trim(line), *name, *value;
        if (!*text || *text == '#')
            continue;
        if (!sk_split(text, '=', &name, &value) || !apply(station, watch_minutes, name, value)) {
            fclose(in);
            return number;
        }
    }
    fclose(in);
    return 0;
}
