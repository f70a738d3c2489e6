#include <ctype.h>
#include <string.h>

#include "skerry/link.h"

static const char *const words[] = {"Alfa",   "Bravo",    "Charlie", "Delta", "Echo",   "Foxtrot", "Golf",
                                    "Hotel",  "India",    "Juliett", "Kilo",  "Lima",   "Mike",    "November",
                                    "Oscar",  "Papa",     "Quebec",  "Romeo", "Sierra", "Tango",   "Uniform",
                                    "Victor", "Whiskey",  "X-ray",   "Yankee", "Zulu"};

void sk_spell(char *to, size_t size, const char *text)
{
    to[0] = 0;
    for (; *text; text++) {
        if (!isalpha((unsigned char)*text))
            continue;
        const char *word = words[toupper((unsigned char)*text) - 'A'];
        if (strlen(to) + strlen(word) + 2 > size)
            return;
        strcat(to, word);
        if (text[1])
            strcat(to, " ");
    }
}
