#include "skerry/features.h"

#include <skerry/options.h>

/* A name is put together from the prefix and the feature, so each entry says the feature once. */
#define IS_1 1
#define FIRST(a, b, ...) b
#define PICK(...) FIRST(__VA_ARGS__, 0, 0)
#define COMMA_1 0, 1
#define JOIN(a, b) a##b
#define VALUE(x) PICK(JOIN(COMMA_, x))
#define FEATURE(name) {#name, VALUE(SK_##name)}

const struct sk_feature sk_features[] = {
    FEATURE(JOURNAL),      FEATURE(CRC),          FEATURE(TIDE),          FEATURE(CLOCK_GPS),
    FEATURE(STATS),        FEATURE(LAMP_SECTOR),  FEATURE(LAMP_STANDBY),  FEATURE(FOG),
    FEATURE(LINKS),        FEATURE(FRAME_CHECK),  FEATURE(POWER_BATTERY), FEATURE(POWER_SOLAR),
    FEATURE(POWER_SHORE),  FEATURE(WATCHDOG),     FEATURE(REMOTE_CONTROL), {0, 0},
};
