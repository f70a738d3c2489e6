#include <harbour/module.h>
int main(void) { return harbour_depth() != H_DEPTH + TICKS; }
