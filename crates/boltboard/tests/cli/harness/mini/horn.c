#include <stdio.h>
#include "mini.h"
void horn(void) { puts("BOO"); }
