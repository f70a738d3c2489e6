#include "ctl.h"
#include "skerry/features.h"

int cmd_features(int argc, char **argv)
{
    (void)argc;
    (void)argv;
    for (const struct sk_feature *feature = sk_features; feature->name; feature++)
        table_row(feature->name, feature->on ? "yes" : "no");
    return 0;
}
