#include <skerry/options.h>

#include "glow.h"

int main(void)
{
    struct sk_station station = {.minute = 1, .weather = {.dark = true, .pressure_dhpa = 10001}};
    if (au_glow(&station, SK_AURORA_NIGHT - 1) != 0)
        return 1;
    if (au_glow(&station, SK_AURORA_NIGHT) != 8)
        return 2;
    station.weather.dark = false;
    return au_glow(&station, SK_AURORA_NIGHT) != 0;
}
