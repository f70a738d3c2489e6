#include <stdio.h>
#include <string.h>

#include "skerry/crc.h"
#include "skerry/link.h"

size_t sk_frame(char *to, size_t size, const char *message)
{
    int used = snprintf(to, size, "%s #%08x", message, (unsigned)sk_crc32(0, message, strlen(message)));
    return used < 0 ? 0 : (size_t)used;
}
