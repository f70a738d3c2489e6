#include "skerry/journal.h"

#include <string.h>

#include <skerry/options.h>

#include "skerry/store.h"

static char memory[SK_JOURNAL_SIZE];
static size_t used;
static int lines;

/* Each entry is its length in two bytes, then the line as the format keeps it. */
void sk_journal_add(const char *line)
{
    char entry[256];
    size_t count = sk_keep(entry, sizeof entry, line);
    if (count + 2 > sizeof memory)
        return;
    while (used + count + 2 > sizeof memory) {
        size_t oldest = (size_t)(unsigned char)memory[0] * 256 + (unsigned char)memory[1] + 2;
        memmove(memory, memory + oldest, used - oldest);
        used -= oldest;
        lines--;
    }
    memory[used] = (char)(count / 256);
    memory[used + 1] = (char)(count % 256);
    memcpy(memory + used + 2, entry, count);
    used += count + 2;
    lines++;
}

size_t sk_journal_bytes(void)
{
    return used;
}

int sk_journal_lines(void)
{
    return lines;
}

void sk_journal_each(void (*each)(const char *line, void *with), void *with)
{
    char line[256];
    for (size_t at = 0; at < used;) {
        size_t count = (size_t)(unsigned char)memory[at] * 256 + (unsigned char)memory[at + 1];
        line[sk_recall(line, sizeof line - 1, memory + at + 2, count)] = 0;
        each(line, with);
        at += count + 2;
    }
}
