#include <stdio.h>

#include <skerry/options.h>

#include "daemon.h"
#include "skerry/config.h"
#include "skerry/features.h"
#include "skerry/log.h"
#include "skerry/power.h"

int main(int argc, char **argv)
{
    struct sk_station station;
    struct args args;
    char folder[512];
    int minutes = SK_WATCH_MINUTES;
    int wrong = args_read(&args, argc, argv);
    if (wrong)
        return wrong < 0 ? 0 : wrong;
    sk_station_init(&station, args.seed);
#ifdef SK_CLOCK_GPS
    int now = sk_gps_minute();
    if (now >= 0)
        station.started = now;
#endif
    if (args.conf && (wrong = sk_config_read(args.conf, &station, &minutes))) {
        fprintf(stderr, wrong < 0 ? "skerryd: cannot read %s\n" : "skerryd: %s: line %d is wrong\n", args.conf, wrong);
        return 1;
    }
    loader_folder(folder, sizeof folder, args.modules);
    modules_load(folder);
    sk_log(&station, SK_QUIET, "watch", "%s keeps %s, light %d", sk_version(), station.name, station.number);
    sk_power_start(&station);
    modules_start(&station);
    schedule_run(&station, args.minutes ? args.minutes : minutes);
    modules_end(&station);
    sk_log(&station, SK_QUIET, "watch", "relieved");
    sk_log_flush();
    return 0;
}
