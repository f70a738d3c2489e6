#include <stdio.h>

#include "skerry/link.h"
#include "skerry/log.h"
#include "skerry/module.h"

static void minute(struct sk_station *station)
{
    char report[100], framed[160];
    if (station->minute % 90 != 45)
        return;
    snprintf(report, sizeof report, "light %d lamp %s sea %d cm", station->number, station->lamp_lit ? "lit" : "out",
             station->weather.sea_cm);
    sk_frame(framed, sizeof framed, report);
    sk_log(station, SK_NORMAL, "satellite", "%s", framed);
    station->sent++;
}

const struct sk_module sk_module_link_satellite = {.name = "link-satellite", .minute = minute};
