#ifndef SKERRY_MODULE_H
#define SKERRY_MODULE_H

#include "skerry/station.h"

/* A module of the daemon, in a file of its own or built in. */
struct sk_module {
    const char *name;
    void (*start)(struct sk_station *station);
    void (*minute)(struct sk_station *station);
    void (*end)(struct sk_station *station);
};

#endif
