#ifndef SKERRY_LINK_H
#define SKERRY_LINK_H

#include <stdbool.h>
#include <stddef.h>

bool sk_queue_put(const char *message);
bool sk_queue_take(char *to, size_t size);
size_t sk_frame(char *to, size_t size, const char *message);
int sk_morse(char *to, size_t size, const char *text);
void sk_spell(char *to, size_t size, const char *text);

#endif
