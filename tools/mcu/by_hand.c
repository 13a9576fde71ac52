/* The decoders of three parts as one writes them by hand, with all that the emitted ones do: checks, statuses, stated ranges, the
 * codes that the datasheet allows. What emitted code is measured against. */
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef enum { OK, ALERT, OUT_OF_RANGE, SATURATED, NOT_READY, INVALID, FORMULA_FAULT } status_t;

typedef struct {
    double value;
    status_t status;
} reading_t;

bool thole_9_by_hand(const uint8_t b[3], reading_t *temperature)
{
    if ((uint8_t)~(b[0] + b[1]) != b[2]) {
        return false;
    }
    const int16_t code = (int16_t)((int16_t)((b[0] << 8) | b[1]) >> 2);
    temperature->value = 0.0;
    temperature->status = NOT_READY;
    if (b[1] & 1) {
        return true;
    }
    const double value = code * 0.02;
    temperature->value = value;
    if (code == 0x1FFF || code == -0x2000) {
        temperature->status = SATURATED;
    } else if (b[1] & 2) {
        temperature->status = ALERT;
    } else {
        temperature->status = (value >= -50.0 && value <= 90.0) ? OK : OUT_OF_RANGE;
    }
    return true;
}

bool strake_20_by_hand(const uint8_t b[7], reading_t *temperature, reading_t *humidity, reading_t *supply)
{
    uint8_t crc = 0x5A;

    for (int i = 0; i < 6; ++i) {
        crc ^= b[i];
        for (int bit = 0; bit < 8; ++bit) {
            crc = (uint8_t)((crc & 0x80) ? (crc << 1) ^ 0x4D : crc << 1);
        }
    }
    if (crc != b[6]) {
        return false;
    }
    if ((b[5] & 1) || !(b[5] & 2)) {
        temperature->value = humidity->value = supply->value = 0.0;
        temperature->status = humidity->status = supply->status = NOT_READY;
        return true;
    }
    const int16_t t = (int16_t)((int16_t)(((b[3] << 8) | b[4]) << 2) >> 2);
    const uint16_t h = (uint16_t)(((b[1] & 0x0F) << 10) | (b[2] << 2) | (b[3] >> 6));
    const uint16_t v = (uint16_t)((b[0] << 4) | (b[1] >> 4));
    if (t == -8192) {
        temperature->value = 0.0;
        temperature->status = INVALID;
    } else {
        temperature->value = t * 0.015 + 20.0;
        temperature->status = (temperature->value >= -35.0 && temperature->value <= 110.0) ? OK : OUT_OF_RANGE;
    }
    humidity->value = h * 0.008 - 11.0;
    if (h == 0x3FFF) {
        humidity->status = SATURATED;
    } else {
        humidity->status = (humidity->value >= 0.0 && humidity->value <= 100.0) ? OK : OUT_OF_RANGE;
    }
    supply->value = v * 0.0015;
    supply->status = (supply->value >= 2.2 && supply->value <= 5.5) ? OK : OUT_OF_RANGE;
    return true;
}

typedef struct {
    uint16_t t0, p1, p2, p3;
    int16_t t1, p4, k7, k8;
} words_t;

static bool in(int32_t value, int32_t low, int32_t high)
{
    return value >= low && value <= high;
}

void binnacle_24_by_hand(const words_t *w, uint32_t raw_temperature, const uint8_t b[3], reading_t *pressure)
{
    const uint32_t raw = ((uint32_t)b[0] << 16) | ((uint32_t)b[1] << 8) | b[2];

    pressure->value = 0.0;
    if (raw == 0) {
        pressure->status = NOT_READY;
        return;
    }
    pressure->status = FORMULA_FAULT;
    if (!in((int32_t)raw_temperature, 6000000, 10500000) || !in(w->t0, 28000, 36000) || !in(w->t1, 12000, 18000)
            || !in(w->k7, -500, 500) || !in((int32_t)raw, 0, 14000000) || !in(w->p1, 40000, 52000)
            || !in(w->p2, 30000, 42000) || !in(w->p3, 38000, 50000) || !in(w->p4, -6000, 6000)
            || !in(w->k8, -500, 500)) {
        return;
    }
    const int32_t x = (int32_t)raw_temperature - 256 * (int32_t)w->t0;
    const int32_t slope = x < 0 ? w->t1 + w->k7 : w->t1;
    const int32_t drift = (int32_t)(((int64_t)x * slope) >> 23);
    const int64_t cell = (int64_t)raw + 128 * (int64_t)w->p3 + (((int64_t)w->p4 * drift) >> 3);
    int64_t p = 0;
    if (cell >= 1000000) {
        p = 4 * (int64_t)w->p1 - ((int64_t)w->p2 << 25) / cell;
        const int64_t bow = ((p - 100000) * (p - 100000)) >> 15;
        p += (bow * w->k8) >> 18;
        if (p < 0) {
            p = 0;
        }
    }
    pressure->value = (int32_t)p / 100.0;
    pressure->status = (pressure->value >= 300.0 && pressure->value <= 1200.0) ? OK : OUT_OF_RANGE;
}
