#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <skerry/own_record.h>

#include "daemon.h"
#include "skerry/features.h"
#include "skerry/text.h"

static int usage(void)
{
    fprintf(stderr, "usage: skerryd [--seed N] [--minutes N] [--conf FILE] [--modules DIR] [--version]\n");
    return 2;
}

static void tell_version(void)
{
    char *record = sk_own_record();
    printf("%s\n", sk_version());
    if (record)
        printf("\n%s", record);
    free(record);
}

/* Returns 0 to go on, -1 to stop with success, else an exit code. */
int args_read(struct args *args, int argc, char **argv)
{
    int number;
    *args = (struct args){.seed = 1};
    for (int i = 1; i < argc; i++) {
        if (!strcmp(argv[i], "--version")) {
            tell_version();
            return -1;
        }
        if (i + 1 == argc)
            return usage();
        const char *name = argv[i++], *value = argv[i];
        if (!strcmp(name, "--seed") && sk_number(value, &number))
            args->seed = (uint64_t)number;
        else if (!strcmp(name, "--minutes") && sk_number(value, &number) && number > 0)
            args->minutes = number;
        else if (!strcmp(name, "--conf"))
            args->conf = value;
        else if (!strcmp(name, "--modules"))
            args->modules = value;
        else
            return usage();
    }
    return 0;
}
