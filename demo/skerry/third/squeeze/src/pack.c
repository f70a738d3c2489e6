#include <squeeze/squeeze.h>

#include "run.h"

size_t squeeze_pack(char *to, size_t room, const char *from, size_t count)
{
    size_t used = 0;
    for (size_t at = 0; at < count;) {
        size_t run = squeeze_run(from + at, count - at);
        if (run >= 3 || (unsigned char)from[at] > 127) {
            if (used + 2 > room)
                break;
            to[used++] = (char)(unsigned char)(125 + (run < 3 ? 3 : run));
            to[used++] = from[at];
            at += run < 3 ? 1 : run;
        } else {
            if (used + 1 > room)
                break;
            to[used++] = from[at++];
        }
    }
    return used;
}
