#include <string.h>

#include "skerry/link.h"
#include <skerry/options.h>

#include "skerry/text.h"

static char waiting[SK_LINK_QUEUE][120];
static int first, count;

bool sk_queue_put(const char *message)
{
    if (count == SK_LINK_QUEUE)
        return false;
    sk_copy(waiting[(first + count++) % SK_LINK_QUEUE], sizeof waiting[0], message);
    return true;
}

bool sk_queue_take(char *to, size_t size)
{
    if (!count)
        return false;
    sk_copy(to, size, waiting[first]);
    first = (first + 1) % SK_LINK_QUEUE;
    count--;
    return true;
}
