#include <string.h>

#include "skerry/store.h"

const char sk_keep_name[] = "plain";

size_t sk_keep(char *to, size_t room, const char *line)
{
    size_t count = strlen(line);
    if (count > room)
        count = room;
    memcpy(to, line, count);
    return count;
}

size_t sk_recall(char *to, size_t room, const char *from, size_t count)
{
    if (count > room)
        count = room;
    memcpy(to, from, count);
    return count;
}
