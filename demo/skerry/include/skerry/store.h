#ifndef SKERRY_STORE_H
#define SKERRY_STORE_H

#include <stddef.h>

/* How one line of the journal is kept; the formats differ, the journal does not. */
size_t sk_keep(char *to, size_t room, const char *line);
size_t sk_recall(char *to, size_t room, const char *from, size_t count);
extern const char sk_keep_name[];

#endif
