#include <string.h>

#include "check.h"
#include "squeeze/squeeze.h"

int main(void)
{
    const char *texts[] = {"", "a", "aaaa", "abcccccccccccd", "          x"};
    char packed[64], back[64];
    for (unsigned i = 0; i < sizeof texts / sizeof *texts; i++) {
        size_t count = squeeze_pack(packed, sizeof packed, texts[i], strlen(texts[i]));
        CHECK(count <= strlen(texts[i]));
        CHECK(squeeze_unpack(back, sizeof back, packed, count) == strlen(texts[i]));
        CHECK(!memcmp(back, texts[i], strlen(texts[i])));
    }
    return 0;
}
