#include "skerry/crc.h"

uint32_t sk_crc32(uint32_t crc, const void *bytes, size_t count)
{
    const unsigned char *at = bytes;
    crc = ~crc;
    while (count--) {
        crc ^= *at++;
        for (int bit = 0; bit < 8; bit++)
            crc = (crc >> 1) ^ (0xEDB88320u & (0u - (crc & 1)));
    }
    return ~crc;
}
