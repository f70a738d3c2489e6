#include <harbour/module.h>
int main(void) { return harbour_depth() == H_DEPTH + TICKS && buoy_tick(8) == 10 ? 0 : 1; }
