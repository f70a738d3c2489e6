#include <string.h>

#include "check.h"
#include "skerry/ring.h"

int main(void)
{
    char memory[8], out[8];
    struct sk_ring ring;
    sk_ring_init(&ring, memory, sizeof memory);
    CHECK(sk_ring_put(&ring, "abcdef", 6));
    CHECK(!sk_ring_put(&ring, "ghi", 3));
    CHECK(sk_ring_take(&ring, out, 4) == 4 && !memcmp(out, "abcd", 4));
    CHECK(sk_ring_put(&ring, "ghijk", 5));
    CHECK(sk_ring_take(&ring, out, 8) == 7 && !memcmp(out, "efghijk", 7));
    return 0;
}
