#ifndef SKERRY_UNITS_H
#define SKERRY_UNITS_H

#include <stddef.h>

void sk_distance(char *to, size_t size, int metres);
void sk_speed(char *to, size_t size, int tenths_of_knots);

#endif
