#include "skerry/rng.h"

void sk_rng_seed(struct sk_rng *rng, uint64_t seed)
{
    rng->state = seed * 0x9E3779B97F4A7C15u + 1;
    sk_rng_next(rng);
}

uint32_t sk_rng_next(struct sk_rng *rng)
{
    uint64_t x = rng->state;
    x ^= x << 13;
    x ^= x >> 7;
    x ^= x << 17;
    rng->state = x;
    return (uint32_t)(x >> 32);
}

int sk_rng_between(struct sk_rng *rng, int low, int high)
{
    return low + (int)(sk_rng_next(rng) % (uint32_t)(high - low + 1));
}
