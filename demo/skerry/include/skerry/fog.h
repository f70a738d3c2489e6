#ifndef SKERRY_FOG_H
#define SKERRY_FOG_H

#include "skerry/station.h"

/* Whether a signal with `blasts` blasts every `period` minutes sounds now. */
bool sk_pattern_due(const struct sk_station *station, int period);
void sk_pattern_blasts(char *to, int size, int blasts);
bool sk_tank_take(int litres);
void sk_tank_refill(void);
void sk_speaker_play(int blasts);

#endif
