/* The guard with a bus that answers from a table, and the decoder against its vectors: the same on the host and on a board. */
#include "guard.h"
#include "thole_9_vectors.h"

static uint32_t waited;

/* Here your HAL's transfer function is called. This one answers -7.72 °C, and acknowledges nobody else. */
static thole_9_bus_result_t transfer(void *user, uint8_t address, const uint8_t *write, uint16_t write_length, uint8_t *read,
        uint16_t read_length)
{
    static const uint8_t frost[3] = { 0xF9, 0xF8, 0x0E };

    (void)user;
    (void)write;
    (void)write_length;
    if (address != THOLE_9_I2C_ADDRESS) {
        return THOLE_9_BUS_NO_ANSWER;
    }
    for (uint16_t index = 0; (index < read_length) && (index < 3); ++index) {
        read[index] = frost[index];
    }
    return THOLE_9_BUS_DONE;
}

static void wait(void *user, uint32_t micros)
{
    (void)user;
    waited += micros;
}

int main(void)
{
    thole_9_driver_t sensor = { .transfer = transfer, .wait = wait, .address = THOLE_9_I2C_ADDRESS };
    int32_t hundredths = 0;
    uint32_t wrong = 0;

    sensor.device = thole_9_device_reset();
    if (!thole_9_set_resolution(&sensor.device.settings, THOLE_9_RESOLUTION_12_BITS)) {
        return 1;
    }
    if ((guard_look(&sensor, &hundredths) != GUARD_FROST) || (hundredths != -772) || (waited < 31000U)) {
        return 2;
    }
    sensor.address = THOLE_9_I2C_ADDRESS + 1U;
    if (guard_look(&sensor, &hundredths) != GUARD_UNKNOWN) {
        return 3;
    }
    return ((thole_9_vectors(&wrong) >= 200U) && (wrong == UINT32_MAX)) ? 0 : 4;
}
