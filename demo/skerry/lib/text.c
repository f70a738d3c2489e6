#include "skerry/text.h"

#include <ctype.h>
#include <errno.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>

void sk_copy(char *to, size_t size, const char *from)
{
    size_t count = strlen(from);
    if (count >= size)
        count = size - 1;
    memcpy(to, from, count);
    to[count] = 0;
}

bool sk_split(char *line, char separator, char **left, char **right)
{
    char *at = strchr(line, separator);
    if (!at)
        return false;
    *at = 0;
    *left = sk_trim(line);
    *right = sk_trim(at + 1);
    return true;
}

char *sk_trim(char *text)
{
    while (isspace((unsigned char)*text))
        text++;
    char *end = text + strlen(text);
    while (end > text && isspace((unsigned char)end[-1]))
        *--end = 0;
    return text;
}

bool sk_number(const char *text, int *number)
{
    char *end;
    errno = 0;
    long value = strtol(text, &end, 10);
    if (end == text || *end || errno || value < INT_MIN || value > INT_MAX)
        return false;
    *number = (int)value;
    return true;
}
