#ifndef SKERRY_SENSE_H
#define SKERRY_SENSE_H

#include "skerry/station.h"

struct sk_reading {
    const char *what;
    int last;
    int sum;
    int count;
};

int sk_reading_take(struct sk_reading *reading, struct sk_station *station, int truth, int noise);
int sk_filter(struct sk_reading *reading, int value);
int sk_calibrate(const char *what, int value);

#endif
