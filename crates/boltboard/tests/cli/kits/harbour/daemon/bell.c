#include <harbour/module.h>
static int tick(int minute) { return minute % 2; }
const struct h_module h_fog_bell = {"fog-bell", tick};
