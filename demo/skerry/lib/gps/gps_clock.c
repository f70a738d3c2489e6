#include <gps.h>

/* Returns the minute of the day by satellite, or -1 when no satellite answers. */
int sk_gps_minute(void)
{
    struct gps_data_t data;
    if (gps_open("localhost", DEFAULT_GPSD_PORT, &data) != 0)
        return -1;
    gps_close(&data);
    return -1;
}
