#include <ctype.h>
#include <string.h>

#include "skerry/link.h"

static const char *const letters[] = {".-",   "-...", "-.-.", "-..",  ".",   "..-.", "--.",  "....", "..",
                                      ".---", "-.-",  ".-..", "--",   "-.",  "---",  ".--.", "--.-", ".-.",
                                      "...",  "-",    "..-",  "...-", ".--", "-..-", "-.--", "--.."};

/* Returns the length in dots. */
int sk_morse(char *to, size_t size, const char *text)
{
    int dots = 0;
    to[0] = 0;
    for (; *text; text++) {
        if (!isalpha((unsigned char)*text))
            continue;
        const char *code = letters[toupper((unsigned char)*text) - 'A'];
        if (strlen(to) + strlen(code) + 2 > size)
            break;
        strcat(to, code);
        strcat(to, " ");
        for (; *code; code++)
            dots += *code == '.' ? 2 : 4;
        dots += 2;
    }
    return dots;
}
