#ifndef SKERRY_TEXT_H
#define SKERRY_TEXT_H

#include <stdbool.h>
#include <stddef.h>

void sk_copy(char *to, size_t size, const char *from);
bool sk_split(char *line, char separator, char **left, char **right);
char *sk_trim(char *text);
bool sk_number(const char *text, int *number);

#endif
