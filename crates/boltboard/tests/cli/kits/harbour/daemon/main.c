#include <dlfcn.h>
#include <harbour/module.h>
#include <stdio.h>

extern const struct h_module *const h_built_in[];

int harbourd_log(const char *text) { return printf("log: %s\n", text); }

int main(int count, char **words)
{
    printf("depth %d\n", harbour_depth());
    for (const struct h_module *const *module = h_built_in; *module; module++)
        printf("%s %d\n", (*module)->name, (*module)->tick(8));
    if (count < 3)
        return 0;
    void *file = dlopen(words[1], RTLD_NOW);
    const struct h_module *module = file ? dlsym(file, words[2]) : 0;
    if (!module)
        return puts(dlerror()), 1;
    printf("%s %d\n", module->name, module->tick(8));
    return 0;
}
