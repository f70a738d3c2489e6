#include <stdio.h>
#include "mini.h"
#include <mini/names.h>
int main(void)
{
    printf("depth %d, wind %s\n", depth(), NAME_OF_WIND);
#ifdef MINI_HORN
    horn();
#endif
    return 0;
}
