#ifndef SKERRY_LAMP_H
#define SKERRY_LAMP_H

#include "skerry/station.h"

void sk_lamp_minute(struct sk_station *station);
const char *sk_drive_name(void);
int sk_drive_draw(void);
bool sk_drive_strike(struct sk_station *station);
int sk_character_flashes(const char *character);
int sk_character_period(const char *character);
double sk_lens_candela(int watts);
void sk_rotation_log(const struct sk_station *station);
void sk_sector_log(const struct sk_station *station);
bool sk_standby_take_over(struct sk_station *station);
bool sk_photocell_dark(const struct sk_station *station);

#endif
