#include <skerry/options.h>

#include "skerry/lamp.h"

double sk_lens_candela(int watts)
{
    /* A turning lens gathers the light into beams. */
#ifdef SK_LAMP_ROTATION
    return watts * 95.0 * 60.0;
#else
    return watts * 95.0 * 4.0;
#endif
}
