#ifndef SKERRY_CONFIG_H
#define SKERRY_CONFIG_H

#include "skerry/station.h"

/* Reads `name = value` lines; returns the number of the first wrong line, 0 if all is well, -1 without a file. */
int sk_config_read(const char *file, struct sk_station *station, int *watch_minutes);

#endif
