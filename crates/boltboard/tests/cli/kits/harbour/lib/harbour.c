#include <harbour/module.h>
int harbour_depth(void) { return H_DEPTH + TICKS; }
