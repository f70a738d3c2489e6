#include <stdio.h>
#include <string.h>

#include "ctl.h"
#include "skerry/journal.h"
#include "skerry/store.h"

static void print(const char *line, void *with)
{
    (void)with;
    puts(line);
}

/* Keeps the lines of standard input as the station would, then prints what it kept. */
int cmd_journal(int argc, char **argv)
{
    char line[200];
    size_t read = 0;
    (void)argc;
    (void)argv;
    while (fgets(line, sizeof line, stdin)) {
        line[strcspn(line, "\n")] = 0;
        read += strlen(line);
        sk_journal_add(line);
    }
    sk_journal_each(print, 0);
    fprintf(stderr, "%d lines, %zu bytes kept as %s, of %zu read\n", sk_journal_lines(), sk_journal_bytes(), sk_keep_name, read);
    return 0;
}
