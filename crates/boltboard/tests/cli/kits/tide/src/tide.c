#include <harbour/module.h>
static int tick(int minute)
{
    harbourd_log(H_LABEL);
    return buoy_tick(minute) * H_TIDE_RANGE;
}
const struct h_module h_tide = {"tide", tick};
