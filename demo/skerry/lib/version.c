#include "skerry/features.h"

const char *sk_version(void)
{
    return "Skerry 2.4";
}
