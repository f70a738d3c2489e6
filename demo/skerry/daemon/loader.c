#include <dirent.h>
#include <dlfcn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include <skerry/options.h>

#include "daemon.h"

/* Modules lie where they were installed; a daemon that was only built finds those beside it. */
void loader_folder(char *to, unsigned size, const char *given)
{
    char self[400];
    ssize_t count = readlink("/proc/self/exe", self, sizeof self - 1);
    snprintf(to, size, "%s", given ? given : SK_MODULEDIR);
    if (given || count <= 0)
        return;
    self[count] = 0;
    for (int up = 0; up < 2; up++) {
        char *slash = strrchr(self, '/');
        if (!slash)
            return;
        *slash = 0;
    }
    char beside[512];
    snprintf(beside, sizeof beside, "%s/lib/skerry", self);
    if (access(beside, R_OK) == 0)
        snprintf(to, size, "%s", beside);
}

static int ends_in_so(const struct dirent *entry)
{
    size_t count = strlen(entry->d_name);
    return count > 3 && !strcmp(entry->d_name + count - 3, ".so");
}

/* Returns how many modules were loaded, in the order of their names. */
int loader_open(const char *folder)
{
    struct dirent **entries;
    int loaded = 0, count = scandir(folder, &entries, ends_in_so, alphasort);
    for (int i = 0; i < count; i++) {
        char path[1024], symbol[300];
        snprintf(path, sizeof path, "%s/%s", folder, entries[i]->d_name);
        snprintf(symbol, sizeof symbol, "sk_module_%.*s", (int)strlen(entries[i]->d_name) - 3, entries[i]->d_name);
        for (char *c = symbol; *c; c++)
            if (*c == '-')
                *c = '_';
        free(entries[i]);
        void *file = dlopen(path, RTLD_NOW | RTLD_LOCAL);
        const struct sk_module *module = file ? dlsym(file, symbol) : 0;
        if (module) {
            modules_add(module, "loaded");
            loaded++;
        } else {
            fprintf(stderr, "skerryd: cannot load %s: %s\n", path, dlerror());
        }
    }
    if (count >= 0)
        free(entries);
    return loaded;
}
