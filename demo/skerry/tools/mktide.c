/* Reckons the height of the tide for every step of a day and writes it as a C table. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>

int main(int argc, char **argv)
{
    char name[16];
    double amplitude[16], period[16], phase[16];
    int count = 0;
    if (argc != 4) {
        fprintf(stderr, "usage: mktide STEP CONSTITUENTS TABLE\n");
        return 2;
    }
    int step = atoi(argv[1]);
    FILE *in = fopen(argv[2], "r"), *out = fopen(argv[3], "w");
    if (!in || !out || step < 1) {
        fprintf(stderr, "mktide: cannot open %s or %s\n", argv[2], argv[3]);
        return 1;
    }
    char line[128];
    while (count < 16 && fgets(line, sizeof line, in))
        if (line[0] != '#' && sscanf(line, "%15s %lf %lf %lf", name, &amplitude[count], &period[count], &phase[count]) == 4)
            count++;
    int entries = 24 * 60 / step;
    fprintf(out, "#define TIDE_STEP %d\n#define TIDE_ENTRIES %d\nstatic const short tide_table[] = {\n", step, entries);
    for (int i = 0; i < entries; i++) {
        double height = 0;
        for (int c = 0; c < count; c++)
            height += amplitude[c] * cos(2 * 3.14159265358979 * (i * step / period[c] - phase[c] / 360));
        fprintf(out, "    %d,\n", (int)lround(height));
    }
    fprintf(out, "};\n");
    fclose(in);
    return fclose(out) ? 1 : 0;
}
