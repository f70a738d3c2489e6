#include <squeeze/squeeze.h>

size_t squeeze_unpack(char *to, size_t room, const char *from, size_t count)
{
    size_t used = 0;
    for (size_t at = 0; at < count; at++) {
        size_t run = 1;
        if ((unsigned char)from[at] > 127 && at + 1 < count)
            run = (unsigned char)from[at++] - 125u;
        for (; run && used < room; run--)
            to[used++] = from[at];
    }
    return used;
}
