#include <skerry/options.h>

#include "skerry/sense.h"

int sk_filter(struct sk_reading *reading, int value)
{
    if (reading->count == SK_SENSOR_WINDOW) {
        reading->sum -= reading->sum / reading->count;
        reading->count--;
    }
    reading->sum += value;
    reading->count++;
    return reading->sum / reading->count;
}
