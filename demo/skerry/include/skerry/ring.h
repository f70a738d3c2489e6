#ifndef SKERRY_RING_H
#define SKERRY_RING_H

#include <stdbool.h>
#include <stddef.h>

/* A ring of bytes over memory of the caller. */
struct sk_ring {
    char *memory;
    size_t size, start, used;
};

void sk_ring_init(struct sk_ring *ring, char *memory, size_t size);
bool sk_ring_put(struct sk_ring *ring, const char *bytes, size_t count);
size_t sk_ring_take(struct sk_ring *ring, char *bytes, size_t count);

#endif
