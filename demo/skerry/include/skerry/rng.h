#ifndef SKERRY_RNG_H
#define SKERRY_RNG_H

#include "skerry/station.h"

void sk_rng_seed(struct sk_rng *rng, uint64_t seed);
uint32_t sk_rng_next(struct sk_rng *rng);
int sk_rng_between(struct sk_rng *rng, int low, int high);

#endif
