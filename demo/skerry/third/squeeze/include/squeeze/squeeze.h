#ifndef SQUEEZE_SQUEEZE_H
#define SQUEEZE_SQUEEZE_H

#include <stddef.h>

/* Packs runs of equal bytes: a byte above 127 says how often (less 125) the next one repeats. */
size_t squeeze_pack(char *to, size_t room, const char *from, size_t count);
size_t squeeze_unpack(char *to, size_t room, const char *from, size_t count);

#endif
