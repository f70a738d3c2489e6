#include <stdio.h>
#include <string.h>

#include <skerry/options.h>

#include "ctl.h"

static const struct {
    const char *name;
    int (*run)(int argc, char **argv);
} commands[] = {
    {"station", cmd_station},
    {"features", cmd_features},
#ifdef SK_CTL_TIDE
    {"tide", cmd_tide},
#endif
#ifdef SK_CTL_JOURNAL
    {"journal", cmd_journal},
#endif
#ifdef SK_CTL_CHECK
    {"check", cmd_check},
#endif
};

int main(int argc, char **argv)
{
    for (unsigned i = 0; argc > 1 && i < sizeof commands / sizeof *commands; i++)
        if (!strcmp(argv[1], commands[i].name))
            return commands[i].run(argc - 2, argv + 2);
    fprintf(stderr, "usage: skerryctl COMMAND\ncommands:");
    for (unsigned i = 0; i < sizeof commands / sizeof *commands; i++)
        fprintf(stderr, " %s", commands[i].name);
    fprintf(stderr, "\n");
    return 2;
}
