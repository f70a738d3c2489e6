#include "daemon.h"
#include "skerry/log.h"

extern const struct sk_module *const sk_builtin_modules[];

enum { MOST = 32 };
static struct {
    const struct sk_module *module;
    const char *how;
} modules[MOST];
static int count;

void modules_add(const struct sk_module *module, const char *how)
{
    if (count == MOST)
        return;
    modules[count].module = module;
    modules[count++].how = how;
}

int modules_load(const char *folder)
{
    for (int i = 0; sk_builtin_modules[i]; i++)
        modules_add(sk_builtin_modules[i], "built in");
    return loader_open(folder);
}

void modules_start(struct sk_station *station)
{
    for (int i = 0; i < count; i++) {
        sk_log(station, SK_NORMAL, "module", "%s (%s)", modules[i].module->name, modules[i].how);
        if (modules[i].module->start)
            modules[i].module->start(station);
    }
}

void modules_minute(struct sk_station *station)
{
    for (int i = 0; i < count; i++)
        if (modules[i].module->minute)
            modules[i].module->minute(station);
}

void modules_end(struct sk_station *station)
{
    for (int i = 0; i < count; i++)
        if (modules[i].module->end)
            modules[i].module->end(station);
}
