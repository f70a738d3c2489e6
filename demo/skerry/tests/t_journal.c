#include <stdio.h>
#include <string.h>

#include "check.h"
#include "skerry/journal.h"

static char last[64];

static void remember(const char *line, void *with)
{
    ++*(int *)with;
    snprintf(last, sizeof last, "%.60s", line);
}

int main(void)
{
    char line[64];
    int seen = 0;
    for (int i = 0; i < 100000; i++) {
        snprintf(line, sizeof line, "entry    %d", i);
        sk_journal_add(line);
    }
    sk_journal_each(remember, &seen);
    CHECK(seen == sk_journal_lines() && seen > 1 && seen < 100000);
    CHECK(!strcmp(last, "entry    99999"));
    return 0;
}
