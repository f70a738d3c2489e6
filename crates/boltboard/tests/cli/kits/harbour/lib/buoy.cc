#include <cmath>
#include <harbour/module.h>
#include <string>
int buoy_tick(int minute) { return (int)std::string(minute, 'x').size() + (int)std::cbrt((double)minute); }
