#include "skerry/lamp.h"

#include <skerry/options.h>

#include "skerry/log.h"
#include "skerry/power.h"
#include "skerry/rng.h"

static void strike(struct sk_station *station)
{
    if (!sk_drive_strike(station)) {
        sk_log(station, SK_NORMAL, "lamp", "%s does not light", sk_drive_name());
        station->lamp_failed = true;
#ifdef SK_LAMP_STANDBY
        station->lamp_failed = !sk_standby_take_over(station);
#endif
    }
    if (station->lamp_failed)
        return;
    station->lamp_lit = true;
    sk_log(station, SK_NORMAL, "lamp", "%s lit, %s, %.0f candela, %d flashes in %d s", sk_drive_name(),
           station->character, sk_lens_candela(SK_LAMP_WATTS), sk_character_flashes(station->character),
           sk_character_period(station->character));
#ifdef SK_LAMP_ROTATION
    sk_rotation_log(station);
#endif
#ifdef SK_LAMP_SECTOR
    sk_sector_log(station);
#endif
}

void sk_lamp_minute(struct sk_station *station)
{
#ifdef SK_PHOTOCELL
    bool wanted = sk_photocell_dark(station);
#else
    bool wanted = station->weather.dark;
#endif
    if (wanted && !station->lamp_lit) {
        station->lamp_failed = false;
        if (sk_power_allows(station, sk_drive_draw()))
            strike(station);
    } else if (!wanted && station->lamp_lit) {
        station->lamp_lit = false;
        sk_log(station, SK_NORMAL, "lamp", "put out");
    } else if (station->lamp_lit && sk_rng_between(&station->rng, 0, 399) == 0) {
        station->lamp_lit = false;
        sk_log(station, SK_NORMAL, "lamp", "%s has gone out", sk_drive_name());
    }
    station->drawn_w = station->lamp_lit ? sk_drive_draw() : 0;
}
