#ifndef SKERRY_CHECK_H
#define SKERRY_CHECK_H

#include <stdio.h>
#include <stdlib.h>

#define CHECK(what)                                                   \
    do {                                                              \
        if (!(what)) {                                                \
            fprintf(stderr, "%s:%d: %s\n", __FILE__, __LINE__, #what); \
            exit(1);                                                  \
        }                                                             \
    } while (0)

#endif
