#include "run.h"

size_t squeeze_run(const char *from, size_t count)
{
    size_t run = 1;
    while (run < count && run < SQUEEZE_LONGEST && from[run] == from[0])
        run++;
    return run;
}
