#include <stdio.h>

#include "ctl.h"
#include "skerry/tide.h"

int cmd_tide(int argc, char **argv)
{
    char time[16], height[16];
    (void)argc;
    (void)argv;
    for (int minute = 0; minute < 24 * 60; minute += 120) {
        snprintf(time, sizeof time, "%02d:%02d", minute / 60, minute % 60);
        snprintf(height, sizeof height, "%+d cm", sk_tide_mm(minute) / 10);
        table_row(time, height);
    }
    return 0;
}
