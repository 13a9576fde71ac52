/* thole-9: Frost guard with alert output
 * After: Thole 9 datasheet, revision 2.0
 *
 * Made by yemdo 0.1.0 from a sheet whose text has the hash 713f272791683222.
 * Do not edit it: change the sheet, and emit it again.
 * There are no real numbers: readings are integers that count steps.
 * Left out: quantity hysteresis, which cannot be computed in integers.
 */
#ifndef THOLE_9_H
#define THOLE_9_H

#include <stdbool.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* I2C address: 7 bits; on the wire 0xA2 to write, 0xA3 to read. */
#define THOLE_9_I2C_ADDRESS 0x51U

/* Address of register MODE (section 5.1). */
#define THOLE_9_MODE_ADDRESS 0x14U

/* Address of register LOW. */
#define THOLE_9_LOW_ADDRESS 0x26U

/* Address of register HIGH. */
#define THOLE_9_HIGH_ADDRESS 0x22U

/* How far a reading is to be believed. */
typedef enum {
    THOLE_9_OK = 0, /* a good value */
    THOLE_9_ALERT = 1, /* a good value; the part signals an alert */
    THOLE_9_OUT_OF_RANGE = 2, /* a value outside the range that the datasheet states */
    THOLE_9_SATURATED = 3, /* the end of the part's range; the value is a bound */
    THOLE_9_NOT_READY = 4, /* no value: the part had nothing new to say */
} thole_9_status_t;

/* A reading. Where its status has no value, that is 0. The value counts steps; how large they are is said
 * where the reading is.
 */
typedef struct {
    int32_t value;
    thole_9_status_t status;
} thole_9_reading_t;

/* The values of RESOLUTION. */
typedef uint8_t thole_9_resolution_t;
#define THOLE_9_RESOLUTION_10_BITS 0 /* 10 bits; bits = 10, ms = 7, step = 32, noise = 10, current = 4 */
#define THOLE_9_RESOLUTION_11_BITS 1 /* 11 bits; bits = 11, ms = 13, step = 16, noise = 7, current = 6 */
#define THOLE_9_RESOLUTION_12_BITS 2 /* 12 bits; bits = 12, ms = 31, step = 8, noise = 5, current = 11 */
#define THOLE_9_RESOLUTION_14_BITS 3 /* 14 bits; bits = 14, ms = 118, step = 2, noise = 3, current = 38 */

/* The values of COMPARE. */
typedef uint8_t thole_9_compare_t;
#define THOLE_9_COMPARE_HYSTERESIS 0 /* hysteresis */
#define THOLE_9_COMPARE_WINDOW 1 /* window */

/* The values of RUN. */
typedef uint8_t thole_9_run_t;
#define THOLE_9_RUN_STOPPED 0 /* stopped */
#define THOLE_9_RUN_RUNNING 1 /* running */

/* What the part's registers hold, and what else is set. */
typedef struct {
    uint8_t mode; /* MODE, read-write: after a reset 0x86 */
    uint16_t low; /* LOW, read-write: after a reset 0x0000 */
    uint16_t high; /* HIGH, read-write: after a reset 0x0640 */
} thole_9_settings_t;

/* The codes of frame FROST: 3 bytes.
 *
 * Datasheet: section 4.2.
 */
typedef struct {
    int16_t temperature; /* b0 b1[7:2], two's complement */
    bool alert; /* b1[1] */
    bool converting; /* b1[0] */
} thole_9_frost_frame_t;

/* The readings that FROST brings. */
typedef struct {
    thole_9_reading_t temperature; /* in °C, in steps of 0.01; exact */
} thole_9_frost_readings_t;

/* The number beside a code of RESOLUTION in column bits, where there is one.
 *
 * Gives `false` where there is no value; `result` is left as it is then.
 */
bool thole_9_resolution_bits(uint8_t code, int32_t *result);

/* The number beside a code of RESOLUTION in column ms, where there is one.
 *
 * Gives `false` where there is no value; `result` is left as it is then.
 */
bool thole_9_resolution_ms(uint8_t code, int32_t *result);

/* The number beside a code of RESOLUTION in column step, where there is one, in units of 0.01.
 *
 * Gives `false` where there is no value; `result` is left as it is then.
 */
bool thole_9_resolution_step(uint8_t code, int32_t *result);

/* The number beside a code of RESOLUTION in column noise, where there is one, in units of 0.01.
 *
 * Gives `false` where there is no value; `result` is left as it is then.
 */
bool thole_9_resolution_noise(uint8_t code, int32_t *result);

/* The number beside a code of RESOLUTION in column current, where there is one, in units of 0.01.
 *
 * Gives `false` where there is no value; `result` is left as it is then.
 */
bool thole_9_resolution_current(uint8_t code, int32_t *result);

/* RESOLUTION, MODE[3:1]. */
thole_9_resolution_t thole_9_get_resolution(const thole_9_settings_t *settings);

/* RESOLUTION, MODE[3:1].
 *
 * 0 to 7; anything else is refused, and nothing is set.
 */
bool thole_9_set_resolution(thole_9_settings_t *settings, thole_9_resolution_t value);

/* COMPARE, MODE[5]. */
thole_9_compare_t thole_9_get_compare(const thole_9_settings_t *settings);

/* COMPARE, MODE[5].
 *
 * 0 to 1; anything else is refused, and nothing is set.
 */
bool thole_9_set_compare(thole_9_settings_t *settings, thole_9_compare_t value);

/* RUN, MODE[7]. */
thole_9_run_t thole_9_get_run(const thole_9_settings_t *settings);

/* RUN, MODE[7].
 *
 * 0 to 1; anything else is refused, and nothing is set.
 */
bool thole_9_set_run(thole_9_settings_t *settings, thole_9_run_t value);

/* LOW_LIMIT, LOW[15:6]. */
int16_t thole_9_get_low_limit(const thole_9_settings_t *settings);

/* LOW_LIMIT, LOW[15:6].
 *
 * -512 to 511; anything else is refused, and nothing is set.
 */
bool thole_9_set_low_limit(thole_9_settings_t *settings, int16_t value);

/* HIGH_LIMIT, HIGH[15:6]. */
int16_t thole_9_get_high_limit(const thole_9_settings_t *settings);

/* HIGH_LIMIT, HIGH[15:6].
 *
 * -512 to 511; anything else is refused, and nothing is set.
 */
bool thole_9_set_high_limit(thole_9_settings_t *settings, int16_t value);

/* What is written to MODE: reserved bits are as the datasheet demands. */
uint8_t thole_9_mode_value(const thole_9_settings_t *settings);

/* What is written to LOW: reserved bits are as the datasheet demands. */
uint16_t thole_9_low_value(const thole_9_settings_t *settings);

/* What is written to HIGH: reserved bits are as the datasheet demands. */
uint16_t thole_9_high_value(const thole_9_settings_t *settings);

/* Unpacks the bytes of FROST.
 *
 * Fails where the inverted 8-bit sum does not agree.
 *
 * Gives `true` where `frame` is filled.
 */
bool thole_9_frost_unpack(thole_9_frost_frame_t *frame, const uint8_t bytes[3]);

/* Lower threshold in °C.
 *
 * It is LOW_LIMIT * 16.
 */
int32_t thole_9_get_lower_threshold(const thole_9_settings_t *settings);

/* Sets lower threshold as near to a value in °C as LOW_LIMIT can hold it.
 *
 * Found by bisection. Out of range, nothing is set and `false` is returned.
 */
bool thole_9_set_lower_threshold(thole_9_settings_t *settings, int32_t value);

/* Upper threshold in °C.
 *
 * It is HIGH_LIMIT * 16.
 */
int32_t thole_9_get_upper_threshold(const thole_9_settings_t *settings);

/* Sets upper threshold as near to a value in °C as HIGH_LIMIT can hold it.
 *
 * Found by bisection. Out of range, nothing is set and `false` is returned.
 */
bool thole_9_set_upper_threshold(thole_9_settings_t *settings, int32_t value);

/* Temperature in °C, in steps of 0.01; exact.
 *
 * Stated range: -5000 to 9000 steps.
 *
 * Datasheet: section 4.1.
 */
thole_9_reading_t thole_9_temperature(const thole_9_frost_frame_t *frost);

/* All readings of FROST. */
thole_9_frost_readings_t thole_9_frost_readings(const thole_9_frost_frame_t *frost);

/* Decodes the bytes of FROST: unpacks them and computes all readings.
 *
 * Gives `true` where `readings` is filled.
 */
bool thole_9_frost_decode(thole_9_frost_readings_t *readings, const uint8_t bytes[3]);

/* The registers as after a reset. */
thole_9_settings_t thole_9_settings_reset(void);

/* What is known of the part. Begin with what `..._device_reset` gives. */
typedef struct {
    thole_9_settings_t settings;
    thole_9_frost_frame_t frost;
    bool has_frost;
} thole_9_device_t;

thole_9_device_t thole_9_device_reset(void);

/* The readings of what came last. Gives `false` where frost has not come yet, or something that they need.
 */
bool thole_9_device_frost_readings(const thole_9_device_t *device, thole_9_frost_readings_t *readings);

/* How a routine ended. */
typedef enum {
    THOLE_9_SUCCEEDED = 0,
    THOLE_9_FAILED_NO_ANSWER, /* the part does not acknowledge */
    THOLE_9_FAILED_CHECK_FAILED, /* what came is no good frame: a check value does not agree, or nobody answered */
    THOLE_9_FAILED_TIMED_OUT, /* what was waited for did not come in time */
    THOLE_9_FAILED_UNEXPECTED, /* what was read is not what was expected: another part, or none */
    THOLE_9_FAILED_NOT_TAKEN, /* a register reads otherwise than it was written */
    THOLE_9_FAILED_NO_VALUE, /* a formula of the routine has no value with these settings */
    THOLE_9_FAILED_BUS /* the bus itself failed */
} thole_9_outcome_t;

/* What a routine asks for next. */
typedef enum {
    THOLE_9_FINISHED, /* nothing: it is done */
    THOLE_9_TRANSFER, /* write, then read, either of which may be empty */
    THOLE_9_WAIT /* let `micros` pass */
} thole_9_request_kind_t;

typedef struct {
    thole_9_request_kind_t kind;
    const uint8_t *write;
    uint16_t write_length;
    uint8_t *read;
    uint16_t read_length;
    uint32_t micros;
} thole_9_request_t;

/* A run of thole_9_measure; zeros are its beginning. */
typedef struct {
    uint8_t at;
    uint8_t out[2];
    uint8_t buffer[3];
} thole_9_measure_run_t;

/* Routine measure, step by step.
 *
 * Goes on until something has to be done, and says what. `answered` is whether what was asked last was
 * acknowledged, or came in time; it counts for nothing at first.
 */
thole_9_outcome_t thole_9_measure_step(thole_9_measure_run_t *run, thole_9_device_t *device, bool answered,
        thole_9_request_t *request);

/* A run of thole_9_sleep; zeros are its beginning. */
typedef struct {
    uint8_t at;
    uint8_t mode_written;
    uint8_t out[2];
    uint8_t buffer[1];
} thole_9_sleep_run_t;

/* Routine sleep, step by step.
 *
 * Goes on until something has to be done, and says what. `answered` is whether what was asked last was
 * acknowledged, or came in time; it counts for nothing at first.
 */
thole_9_outcome_t thole_9_sleep_step(thole_9_sleep_run_t *run, thole_9_device_t *device, bool answered,
        thole_9_request_t *request);

/* What came of a transfer. */
typedef enum {
    THOLE_9_BUS_DONE,
    THOLE_9_BUS_NO_ANSWER, /* not acknowledged, or no response */
    THOLE_9_BUS_ERROR
} thole_9_bus_result_t;

/* The part on a bus: your functions, with whatever they need in `user`. */
typedef struct {
    void *user;
    /* Writes bytes, then reads others after a repeated start; where one length is 0, only the other is done. */
    thole_9_bus_result_t (*transfer)(void *user, uint8_t address, const uint8_t *write, uint16_t write_length,
            uint8_t *read, uint16_t read_length);
    uint8_t address;
    /* Lets microseconds pass. */
    void (*wait)(void *user, uint32_t micros);
    thole_9_device_t device;
} thole_9_driver_t;

/* Routine measure, from beginning to end. */
thole_9_outcome_t thole_9_measure(thole_9_driver_t *driver);

/* Routine sleep, from beginning to end. */
thole_9_outcome_t thole_9_sleep(thole_9_driver_t *driver);

#ifdef __cplusplus
}
#endif

#endif
