#include "skerry/log.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include <skerry/options.h>

#include "skerry/ring.h"
#ifdef SK_JOURNAL
#include "skerry/journal.h"
#endif

#if defined SK_LOG_LEVEL_QUIET
#define LIMIT SK_QUIET
#elif defined SK_LOG_LEVEL_VERBOSE
#define LIMIT SK_CHATTY
#else
#define LIMIT SK_NORMAL
#endif

static char memory[SK_LOG_BUFFER];
static struct sk_ring ring = {.memory = memory, .size = sizeof memory};

void sk_log(const struct sk_station *station, enum sk_level level, const char *who, const char *format, ...)
{
    char line[200];
    int used = 0;
    va_list more;
    if (level > LIMIT)
        return;
#ifdef SK_LOG_TIME
    int minute = sk_minute_of_day(station);
    used = snprintf(line, sizeof line, "%02d:%02d ", minute / 60, minute % 60);
#else
    (void)station;
#endif
    used += snprintf(line + used, sizeof line - (size_t)used, "%-10s ", who);
    va_start(more, format);
    vsnprintf(line + used, sizeof line - (size_t)used, format, more);
    va_end(more);
#ifdef SK_JOURNAL
    sk_journal_add(line);
#endif
    size_t count = strlen(line);
    line[count] = '\n';
    if (!sk_ring_put(&ring, line, count + 1)) {
        sk_log_flush();
        sk_ring_put(&ring, line, count + 1);
    }
}

void sk_log_flush(void)
{
    char piece[256];
    size_t count;
    while ((count = sk_ring_take(&ring, piece, sizeof piece)) > 0)
        fwrite(piece, 1, count, stdout);
    fflush(stdout);
}
