/* Made by yemdo 0.1.0: holds thole_9.c against frames of which it is known what comes out of them. */
#ifndef THOLE_9_VECTORS_H
#define THOLE_9_VECTORS_H

#include <stdint.h>

/* Goes through the frames. Gives how many there were; `wrong` is UINT32_MAX where all agree, or the place of the first that does not. */
uint32_t thole_9_vectors(uint32_t *wrong);

/* The same with other records. */
uint32_t thole_9_vectors_check(const uint8_t *records, uint32_t size, uint32_t *wrong);

#endif
