#include "check.h"
#include "skerry/tide.h"

int main(void)
{
    int lowest = 0, highest = 0;
    for (int minute = 0; minute < 24 * 60; minute++) {
        int mm = sk_tide_mm(minute);
        lowest = mm < lowest ? mm : lowest;
        highest = mm > highest ? mm : highest;
    }
    CHECK(sk_tide_entries() > 1);
    CHECK(lowest < -300 && lowest > -3000);
    CHECK(highest > 300 && highest < 3000);
    return 0;
}
