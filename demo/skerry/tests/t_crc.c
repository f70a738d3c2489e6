#include "check.h"
#include "skerry/crc.h"

int main(void)
{
    CHECK(sk_crc32(0, "123456789", 9) == 0xCBF43926u);
    CHECK(sk_crc32(sk_crc32(0, "12345", 5), "6789", 4) == 0xCBF43926u);
    return 0;
}
