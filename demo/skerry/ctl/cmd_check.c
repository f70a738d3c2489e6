#include <stdio.h>

#include "ctl.h"
#include "skerry/crc.h"

int cmd_check(int argc, char **argv)
{
    char piece[4096], sum[16];
    for (int i = 0; i < argc; i++) {
        size_t count;
        uint32_t crc = 0;
        FILE *in = fopen(argv[i], "rb");
        if (!in) {
            perror(argv[i]);
            return 1;
        }
        while ((count = fread(piece, 1, sizeof piece, in)) > 0)
            crc = sk_crc32(crc, piece, count);
        fclose(in);
        snprintf(sum, sizeof sum, "%08x", (unsigned)crc);
        table_row(sum, argv[i]);
    }
    return 0;
}
