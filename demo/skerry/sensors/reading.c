#include <skerry/options.h>

#include "skerry/rng.h"
#include "skerry/sense.h"

int sk_reading_take(struct sk_reading *reading, struct sk_station *station, int truth, int noise)
{
    int value = truth + sk_rng_between(&station->rng, -noise, noise);
#ifdef SK_SENSOR_CALIBRATE
    value = sk_calibrate(reading->what, value);
#endif
#ifdef SK_SENSOR_FILTER
    value = sk_filter(reading, value);
#endif
    reading->last = value;
    return value;
}
