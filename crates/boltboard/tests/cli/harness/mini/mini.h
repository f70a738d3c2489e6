#ifndef MINI_H
#define MINI_H
#include <mini/options.h>
int depth(void);
void horn(void);
#endif
