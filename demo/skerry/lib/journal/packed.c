#include <squeeze/squeeze.h>
#include <string.h>

#include "skerry/store.h"

const char sk_keep_name[] = "packed";

size_t sk_keep(char *to, size_t room, const char *line)
{
    return squeeze_pack(to, room, line, strlen(line));
}

size_t sk_recall(char *to, size_t room, const char *from, size_t count)
{
    return squeeze_unpack(to, room, from, count);
}
