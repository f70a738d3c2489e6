#ifndef AURORA_GLOW_H
#define AURORA_GLOW_H

#include "skerry/station.h"

/* How bright the sky glows, from 0 (not at all) to 9. */
int au_glow(const struct sk_station *station, int metres);

#endif
