#ifndef HARBOUR_MODULE_H
#define HARBOUR_MODULE_H
#include <harbour/options.h>
#include <harbour/ticks.h>
#ifdef __cplusplus
extern "C" {
#endif
struct h_module {
    const char *name;
    int (*tick)(int minute);
};
int harbour_depth(void);
int buoy_tick(int minute);
int harbourd_log(const char *text);
#ifdef __cplusplus
}
#endif
#endif
