#include "skerry/station.h"

#include <skerry/options.h>

#include "skerry/rng.h"
#include "skerry/text.h"

void sk_station_init(struct sk_station *station, uint64_t seed)
{
    *station = (struct sk_station){.number = SK_STATION_NUMBER, .started = 16 * 60};
    sk_copy(station->name, sizeof station->name, SK_STATION_NAME);
    sk_copy(station->character, sizeof station->character, SK_LAMP_CHARACTER);
    sk_rng_seed(&station->rng, seed);
    station->weather = (struct sk_weather){
        .visibility_m = sk_rng_between(&station->rng, 1500, 16000),
        .sea_cm = sk_rng_between(&station->rng, 20, 250),
        .wind_dkn = sk_rng_between(&station->rng, 30, 260),
        .pressure_dhpa = sk_rng_between(&station->rng, 9850, 10280),
    };
}
