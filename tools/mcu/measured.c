/* So many calls of a decoder, or none: what lies between is what they cost. Built with -DPART=1, 2 or 3, -DHAND=0 or 1, -DCALLS=0 or more;
 * with -DDECODE by the function that goes from bytes to readings at once. */
#include <stdbool.h>
#include <stdint.h>

#if HAND
typedef struct {
    double value;
    int status;
} reading_t;
typedef struct {
    uint16_t t0, p1, p2, p3;
    int16_t t1, p4, k7, k8;
} words_t;
bool thole_9_by_hand(const uint8_t b[3], reading_t *temperature);
bool strake_20_by_hand(const uint8_t b[7], reading_t *temperature, reading_t *humidity, reading_t *supply);
void binnacle_24_by_hand(const words_t *w, uint32_t raw_temperature, const uint8_t b[3], reading_t *pressure);
#else
#include "binnacle_24.h"
#include "strake_20.h"
#include "thole_9.h"
#endif

static volatile uint8_t frost[3] = { 0x10, 0xAC, 0x43 };
static volatile uint8_t air[7] = { 0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24 };
static volatile uint8_t cell[3] = { 0x84, 0x6B, 0x40 };
volatile double result;

int main(void)
{
    uint8_t bytes[7];

    for (int i = 0; i < 7; ++i) {
        bytes[i] = PART == 1 ? frost[i % 3] : PART == 2 ? air[i] : cell[i % 3];
    }
    for (int call = 0; call < CALLS; ++call) {
        __asm__ volatile("" : : "r"(bytes) : "memory"); /* the bytes may be others each time */
#if PART == 1 && HAND
    reading_t temperature;
    if (thole_9_by_hand(bytes, &temperature)) {
        result = temperature.value;
    }
#elif PART == 1 && DECODE
    thole_9_frost_readings_t readings;
    if (thole_9_frost_decode(&readings, bytes)) {
        result = readings.temperature.value;
    }
#elif PART == 1
    thole_9_frost_frame_t frame;
    if (thole_9_frost_unpack(&frame, bytes)) {
        result = thole_9_temperature(&frame).value;
    }
#elif PART == 2 && HAND
    reading_t temperature, humidity, supply;
    if (strake_20_by_hand(bytes, &temperature, &humidity, &supply)) {
        result = temperature.value + 0 * (humidity.status + supply.status);
    }
#elif PART == 2 && DECODE
    strake_20_air_readings_t readings;
    if (strake_20_air_decode(&readings, bytes)) {
        result = readings.temperature.value + 0 * ((int)readings.humidity.status + (int)readings.supply.status);
    }
#elif PART == 2
    strake_20_air_frame_t frame;
    if (strake_20_air_unpack(&frame, bytes)) {
        const strake_20_air_readings_t readings = strake_20_air_readings(&frame);
        result = readings.temperature.value + 0 * ((int)readings.humidity.status + (int)readings.supply.status);
    }
#elif HAND
    static const words_t words = { 31412, 45208, 35871, 46530, 15173, 2214, -128, 231 };
    reading_t pressure;
    binnacle_24_by_hand(&words, 8346680, bytes, &pressure);
    result = pressure.value;
#else
    static const binnacle_24_calibration_frame_t words = { .t0 = 31412, .t1 = 15173, .p1 = 45208, .p2 = 35871, .p3 = 46530, .p4 = 2214, .k7 = -128, .k8 = 231 };
    static const binnacle_24_temperature_frame_t before = { .raw_temperature = 8346680 };
    binnacle_24_pressure_frame_t frame;
    if (binnacle_24_pressure_unpack(&frame, bytes)) {
        result = binnacle_24_pressure(&frame, &words, &before).value;
    }
#endif
    }
    return 0;
}
