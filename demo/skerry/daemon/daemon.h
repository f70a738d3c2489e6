#ifndef SKERRY_DAEMON_H
#define SKERRY_DAEMON_H

#include <stdint.h>

#include "skerry/module.h"

struct args {
    uint64_t seed;
    int minutes; /* 0: as the configuration says */
    const char *conf;
    const char *modules;
};

int args_read(struct args *args, int argc, char **argv);
int modules_load(const char *folder);
void modules_start(struct sk_station *station);
void modules_minute(struct sk_station *station);
void modules_end(struct sk_station *station);
void modules_add(const struct sk_module *module, const char *how);
void loader_folder(char *to, unsigned size, const char *given);
int loader_open(const char *folder);
void schedule_run(struct sk_station *station, int minutes);
void report_minute(const struct sk_station *station);
void watchdog_minute(const struct sk_station *station);
void remote_minute(struct sk_station *station);

#endif
