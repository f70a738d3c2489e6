#include "skerry/ring.h"

void sk_ring_init(struct sk_ring *ring, char *memory, size_t size)
{
    *ring = (struct sk_ring){.memory = memory, .size = size};
}

bool sk_ring_put(struct sk_ring *ring, const char *bytes, size_t count)
{
    if (count > ring->size - ring->used)
        return false;
    for (size_t i = 0; i < count; i++)
        ring->memory[(ring->start + ring->used + i) % ring->size] = bytes[i];
    ring->used += count;
    return true;
}

size_t sk_ring_take(struct sk_ring *ring, char *bytes, size_t count)
{
    if (count > ring->used)
        count = ring->used;
    for (size_t i = 0; i < count; i++)
        bytes[i] = ring->memory[(ring->start + i) % ring->size];
    ring->start = (ring->start + count) % ring->size;
    ring->used -= count;
    return count;
}
