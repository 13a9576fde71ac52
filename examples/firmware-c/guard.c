#include "guard.h"

guard_warning_t guard_look(thole_9_driver_t *sensor, int32_t *hundredths)
{
    thole_9_frost_readings_t readings;

    if (thole_9_measure(sensor) != THOLE_9_SUCCEEDED) {
        return GUARD_UNKNOWN;
    }
    if (!thole_9_device_frost_readings(&sensor->device, &readings) || (readings.temperature.status >= THOLE_9_NOT_READY)) {
        return GUARD_UNKNOWN;
    }
    *hundredths = readings.temperature.value;
    return (*hundredths < 50) ? GUARD_FROST : GUARD_WARM;
}
