#ifndef SKERRY_FEATURES_H
#define SKERRY_FEATURES_H

struct sk_feature {
    const char *name;
    int on;
};

extern const struct sk_feature sk_features[];
const char *sk_version(void);

#endif
