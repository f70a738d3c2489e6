#include "ctl.h"

#include <stdio.h>

void table_row(const char *left, const char *right)
{
    printf("%-18s %s\n", left, right);
}
