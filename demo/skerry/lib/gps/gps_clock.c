#include <gps.h>

#include "skerry/station.h"

/* Asks the positioning service of this machine; it answers within two seconds or not at all. */
int sk_gps_minute(void)
{
    struct gps_data_t data;
    int minute = -1;
    if (gps_open("localhost", DEFAULT_GPSD_PORT, &data) != 0)
        return -1;
    gps_stream(&data, WATCH_ENABLE | WATCH_JSON, 0);
    if (gps_waiting(&data, 2000000) && gps_read(&data, 0, 0) > 0 && data.fix.mode >= MODE_2D)
        minute = (int)(data.fix.time.tv_sec / 60 % (24 * 60));
    gps_stream(&data, WATCH_DISABLE, 0);
    gps_close(&data);
    return minute;
}
