#include "skerry/tide.h"

#include "skerry/tide_table.h"

int sk_tide_entries(void)
{
    return TIDE_ENTRIES;
}

int sk_tide_mm(int minute_of_day)
{
    int at = minute_of_day / TIDE_STEP % TIDE_ENTRIES, rest = minute_of_day % TIDE_STEP;
    int now = tide_table[at], next = tide_table[(at + 1) % TIDE_ENTRIES];
    return now + (next - now) * rest / TIDE_STEP;
}
