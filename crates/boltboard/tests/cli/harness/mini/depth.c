#include "mini.h"
int depth(void) { return MINI_DEPTH; }
