#include <stdio.h>

#include "ctl.h"
#include "skerry/features.h"
#include "skerry/station.h"

int cmd_station(int argc, char **argv)
{
    struct sk_station station;
    char number[16];
    (void)argc;
    (void)argv;
    sk_station_init(&station, 1);
    snprintf(number, sizeof number, "%d", station.number);
    table_row("version", sk_version());
    table_row("station", station.name);
    table_row("number", number);
    table_row("character", station.character);
    return 0;
}
