#include "check.h"
#include "skerry/rng.h"

int main(void)
{
    struct sk_rng a, b;
    sk_rng_seed(&a, 7);
    sk_rng_seed(&b, 7);
    for (int i = 0; i < 1000; i++) {
        int value = sk_rng_between(&a, -3, 9);
        CHECK(value >= -3 && value <= 9);
        CHECK(value == sk_rng_between(&b, -3, 9));
    }
    sk_rng_seed(&b, 8);
    CHECK(sk_rng_next(&a) != sk_rng_next(&b));
    return 0;
}
