#ifndef SQUEEZE_RUN_H
#define SQUEEZE_RUN_H

#include <stddef.h>

size_t squeeze_run(const char *from, size_t count);

#endif
