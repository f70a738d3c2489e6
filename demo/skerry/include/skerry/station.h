#ifndef SKERRY_STATION_H
#define SKERRY_STATION_H

#include <stdbool.h>
#include <stdint.h>

/* What the station knows about itself and the world around it; one for each watch. */
struct sk_rng {
    uint64_t state;
};

struct sk_weather {
    int visibility_m;
    int sea_cm;
    int wind_dkn; /* tenths of a knot */
    int pressure_dhpa;
    bool dark;
};

struct sk_station {
    char name[48];
    int number;
    int minute;  /* of the watch */
    int started; /* minute of the day on which the watch began */
    struct sk_rng rng;
    struct sk_weather weather;
    bool lamp_lit;
    bool lamp_failed;
    int charge_wh;
    int drawn_w;
    int sounded;
    int sent;
    char character[32];
};

void sk_station_init(struct sk_station *station, uint64_t seed);
int sk_minute_of_day(const struct sk_station *station);
void sk_weather_step(struct sk_station *station);
/* The minute of the day by satellite, or -1 when none answers. */
int sk_gps_minute(void);
bool sk_in_fog(const struct sk_station *station, int range_m);

#endif
