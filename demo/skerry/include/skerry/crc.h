#ifndef SKERRY_CRC_H
#define SKERRY_CRC_H

#include <stddef.h>
#include <stdint.h>

uint32_t sk_crc32(uint32_t crc, const void *bytes, size_t count);

#endif
