/* Warns of frost in the hall. */
#ifndef GUARD_H
#define GUARD_H

#include "thole_9.h"

typedef enum { GUARD_WARM, GUARD_FROST, GUARD_UNKNOWN } guard_warning_t;

/* Measures once; `hundredths` is the temperature in hundredths of a degree, where there is one. */
guard_warning_t guard_look(thole_9_driver_t *sensor, int32_t *hundredths);

#endif
