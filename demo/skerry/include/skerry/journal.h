#ifndef SKERRY_JOURNAL_H
#define SKERRY_JOURNAL_H

#include <stddef.h>

void sk_journal_add(const char *line);
size_t sk_journal_bytes(void);
int sk_journal_lines(void);
/* Calls `each` with every line that is kept, oldest first. */
void sk_journal_each(void (*each)(const char *line, void *with), void *with);

#endif
