/* Made by yemdo 0.1.0, with thole_9.h: see there. */
#include "thole_9.h"

bool thole_9_resolution_bits(uint8_t code, int32_t *result)
{
    switch (code) {
    case 0:
        *result = 10;
        return true;
    case 1:
        *result = 11;
        return true;
    case 2:
        *result = 12;
        return true;
    case 3:
        *result = 14;
        return true;
    default:
        return false; /* no row for it */
    }
}

bool thole_9_resolution_ms(uint8_t code, int32_t *result)
{
    switch (code) {
    case 0:
        *result = 7;
        return true;
    case 1:
        *result = 13;
        return true;
    case 2:
        *result = 31;
        return true;
    case 3:
        *result = 118;
        return true;
    default:
        return false; /* no row for it */
    }
}

bool thole_9_resolution_step(uint8_t code, int32_t *result)
{
    switch (code) {
    case 0:
        *result = 32;
        return true;
    case 1:
        *result = 16;
        return true;
    case 2:
        *result = 8;
        return true;
    case 3:
        *result = 2;
        return true;
    default:
        return false; /* no row for it */
    }
}

bool thole_9_resolution_noise(uint8_t code, int32_t *result)
{
    switch (code) {
    case 0:
        *result = 10;
        return true;
    case 1:
        *result = 7;
        return true;
    case 2:
        *result = 5;
        return true;
    case 3:
        *result = 3;
        return true;
    default:
        return false; /* no row for it */
    }
}

bool thole_9_resolution_current(uint8_t code, int32_t *result)
{
    switch (code) {
    case 0:
        *result = 4;
        return true;
    case 1:
        *result = 6;
        return true;
    case 2:
        *result = 11;
        return true;
    case 3:
        *result = 38;
        return true;
    default:
        return false; /* no row for it */
    }
}

thole_9_resolution_t thole_9_get_resolution(const thole_9_settings_t *settings)
{
    return (settings->mode >> 1) & 0x07;
}

bool thole_9_set_resolution(thole_9_settings_t *settings, thole_9_resolution_t value)
{
    if (value > 7) {
        return false;
    }
    settings->mode = (uint8_t)((settings->mode & 0xF1) | (uint8_t)(value << 1));
    return true;
}

thole_9_compare_t thole_9_get_compare(const thole_9_settings_t *settings)
{
    return (settings->mode >> 5) & 0x01;
}

bool thole_9_set_compare(thole_9_settings_t *settings, thole_9_compare_t value)
{
    if (value > 1) {
        return false;
    }
    settings->mode = (uint8_t)((settings->mode & 0xDF) | (uint8_t)(value << 5));
    return true;
}

thole_9_run_t thole_9_get_run(const thole_9_settings_t *settings)
{
    return settings->mode >> 7;
}

bool thole_9_set_run(thole_9_settings_t *settings, thole_9_run_t value)
{
    if (value > 1) {
        return false;
    }
    settings->mode = (uint8_t)((settings->mode & 0x7F) | (uint8_t)(value << 7));
    return true;
}

int16_t thole_9_get_low_limit(const thole_9_settings_t *settings)
{
    return (int16_t)((int16_t)((settings->low >> 6) ^ 0x0200) - 512);
}

bool thole_9_set_low_limit(thole_9_settings_t *settings, int16_t value)
{
    if ((value < -512) || (value > 511)) {
        return false;
    }
    settings->low = (uint16_t)((settings->low & 0x003F) | (((uint16_t)value & 0x03FF) << 6));
    return true;
}

int16_t thole_9_get_high_limit(const thole_9_settings_t *settings)
{
    return (int16_t)((int16_t)((settings->high >> 6) ^ 0x0200) - 512);
}

bool thole_9_set_high_limit(thole_9_settings_t *settings, int16_t value)
{
    if ((value < -512) || (value > 511)) {
        return false;
    }
    settings->high = (uint16_t)((settings->high & 0x003F) | (((uint16_t)value & 0x03FF) << 6));
    return true;
}

uint8_t thole_9_mode_value(const thole_9_settings_t *settings)
{
    return (uint8_t)(settings->mode & 0xAE);
}

uint16_t thole_9_low_value(const thole_9_settings_t *settings)
{
    return (uint16_t)(settings->low & 0xFFC0);
}

uint16_t thole_9_high_value(const thole_9_settings_t *settings)
{
    return (uint16_t)(settings->high & 0xFFC0);
}

bool thole_9_frost_unpack(thole_9_frost_frame_t *frame, const uint8_t bytes[3])
{
    uint8_t check = 0x00;
    for (uint_fast8_t index = 0; index < 2U; ++index) {
        const uint8_t byte = bytes[index];
        check = (uint8_t)(check + byte);
    }
    check = (uint8_t)~check;
    if (check != bytes[2]) {
        return false; /* inverted 8-bit sum mismatch */
    }
    const uint16_t temperature = (uint16_t)(((uint16_t)bytes[0] << 6) | (uint16_t)(bytes[1] >> 2));
    frame->temperature = (int16_t)((int16_t)(temperature ^ 0x2000) - 8192);
    frame->alert = ((bytes[1] >> 1) & 0x01) != 0;
    frame->converting = (bytes[1] & 0x01) != 0;
    return true;
}

int32_t thole_9_get_lower_threshold(const thole_9_settings_t *settings)
{
    const int32_t code = (int32_t)(int16_t)((int16_t)((settings->low >> 6) ^ 0x0200) - 512) * 16;
    return code * 2;
}

bool thole_9_set_lower_threshold(thole_9_settings_t *settings, int32_t value)
{
    const uint16_t low_before = settings->low;
    int32_t low = -512;
    int32_t high = 511;
    (void)thole_9_set_low_limit(settings, (int16_t)low);
    const int32_t first = thole_9_get_lower_threshold(settings);
    (void)thole_9_set_low_limit(settings, (int16_t)high);
    const int32_t last = thole_9_get_lower_threshold(settings);
    if ((value < first) || (value > last)) {
        settings->low = low_before;
        return false;
    }
    for (uint_fast8_t round = 0; round < 10U; ++round) {
        const int32_t middle = low + (high - low) / 2;
        (void)thole_9_set_low_limit(settings, (int16_t)middle);
        const int32_t there = thole_9_get_lower_threshold(settings);
        if (there < value) {
            low = middle;
        } else {
            high = middle;
        }
    }
    (void)thole_9_set_low_limit(settings, (int16_t)low);
    const int32_t one = thole_9_get_lower_threshold(settings);
    (void)thole_9_set_low_limit(settings, (int16_t)high);
    const int32_t other = thole_9_get_lower_threshold(settings);
    if ((int64_t)value - (int64_t)one <= (int64_t)other - (int64_t)value) {
        (void)thole_9_set_low_limit(settings, (int16_t)low);
    }
    return true;
}

int32_t thole_9_get_upper_threshold(const thole_9_settings_t *settings)
{
    const int32_t code = (int32_t)(int16_t)((int16_t)((settings->high >> 6) ^ 0x0200) - 512) * 16;
    return code * 2;
}

bool thole_9_set_upper_threshold(thole_9_settings_t *settings, int32_t value)
{
    const uint16_t high_before = settings->high;
    int32_t low = -512;
    int32_t high = 511;
    (void)thole_9_set_high_limit(settings, (int16_t)low);
    const int32_t first = thole_9_get_upper_threshold(settings);
    (void)thole_9_set_high_limit(settings, (int16_t)high);
    const int32_t last = thole_9_get_upper_threshold(settings);
    if ((value < first) || (value > last)) {
        settings->high = high_before;
        return false;
    }
    for (uint_fast8_t round = 0; round < 10U; ++round) {
        const int32_t middle = low + (high - low) / 2;
        (void)thole_9_set_high_limit(settings, (int16_t)middle);
        const int32_t there = thole_9_get_upper_threshold(settings);
        if (there < value) {
            low = middle;
        } else {
            high = middle;
        }
    }
    (void)thole_9_set_high_limit(settings, (int16_t)low);
    const int32_t one = thole_9_get_upper_threshold(settings);
    (void)thole_9_set_high_limit(settings, (int16_t)high);
    const int32_t other = thole_9_get_upper_threshold(settings);
    if ((int64_t)value - (int64_t)one <= (int64_t)other - (int64_t)value) {
        (void)thole_9_set_high_limit(settings, (int16_t)low);
    }
    return true;
}

thole_9_reading_t thole_9_temperature(const thole_9_frost_frame_t *frost)
{
    /* the first conversion is not done */
    if (frost->converting) {
        return (thole_9_reading_t){ .value = 0, .status = THOLE_9_NOT_READY };
    }
    const int32_t value = (int32_t)frost->temperature * 2;
    thole_9_status_t status = THOLE_9_OK;
    if ((frost->temperature == 8191) || (frost->temperature == -8192)) {
        /* beyond the converter's range */
        status = THOLE_9_SATURATED;
    } else if ((value < -5000) || (value > 9000)) {
        status = THOLE_9_OUT_OF_RANGE;
    } else if (frost->alert) {
        /* the frost threshold is passed */
        status = THOLE_9_ALERT;
    }
    return (thole_9_reading_t){ .value = value, .status = status };
}

thole_9_frost_readings_t thole_9_frost_readings(const thole_9_frost_frame_t *frost)
{
    thole_9_frost_readings_t readings;

    readings.temperature = thole_9_temperature(frost);
    return readings;
}

bool thole_9_frost_decode(thole_9_frost_readings_t *readings, const uint8_t bytes[3])
{
    thole_9_frost_frame_t frost;
    if (!thole_9_frost_unpack(&frost, bytes)) {
        return false;
    }
    *readings = thole_9_frost_readings(&frost);
    return true;
}

/* A value that routine measure needs:
 *     RESOLUTION.ms
 */
static bool thole_9_measure_time_2(const thole_9_settings_t *settings, int32_t *result)
{
    int32_t resolution_ms = 0;
    if (!thole_9_resolution_ms((settings->mode >> 1) & 0x07, &resolution_ms)) {
        return false; /* RESOLUTION has no row for it */
    }
    *result = resolution_ms * 1000;
    return true;
}

thole_9_settings_t thole_9_settings_reset(void)
{
    return (thole_9_settings_t){
        .mode = 0x86,
        .low = 0x0000,
        .high = 0x0640,
    };
}

thole_9_device_t thole_9_device_reset(void)
{
    thole_9_device_t device;

    device.settings = thole_9_settings_reset();
    device.frost = (thole_9_frost_frame_t){
        .temperature = 0,
        .alert = false,
        .converting = false,
    };
    device.has_frost = false;
    return device;
}

bool thole_9_device_frost_readings(const thole_9_device_t *device, thole_9_frost_readings_t *readings)
{
    if (!device->has_frost) {
        return false;
    }
    *readings = thole_9_frost_readings(&device->frost);
    return true;
}

thole_9_outcome_t thole_9_measure_step(thole_9_measure_run_t *run, thole_9_device_t *device, bool answered,
        thole_9_request_t *request)
{
    thole_9_settings_t *const settings = &device->settings;
    *request = (thole_9_request_t){ .kind = THOLE_9_FINISHED };
    switch (run->at) {
    case 0: {
        /* MODE: RUN = running */
        const uint8_t mode_1 = (uint8_t)((settings->mode & 0x2E) | 0x80);
        run->out[0] = 0x14;
        run->out[1] = mode_1;
        run->at = 1;
        request->kind = THOLE_9_TRANSFER;
        request->write = run->out;
        request->write_length = 2;
        return THOLE_9_SUCCEEDED;
    }
    case 1: {
        if (!answered) {
            return THOLE_9_FAILED_NO_ANSWER;
        }
        settings->mode = (uint8_t)((settings->mode & 0x2E) | 0x80);
        int32_t time_2 = 0;
        const bool has_time_2 = thole_9_measure_time_2(settings, &time_2);
        if (!has_time_2) {
            return THOLE_9_FAILED_NO_VALUE;
        }
        const uint32_t micros_3 = (uint32_t)time_2;
        const uint32_t longer_4 = micros_3 + micros_3 / 1000U * 100U + (micros_3 % 1000U * 100U + 999U)
                / 1000U;
        /* wait RESOLUTION.ms ms */
        run->at = 2;
        request->kind = THOLE_9_WAIT;
        request->micros = longer_4;
        return THOLE_9_SUCCEEDED;
    }
    case 2: {
        /* read FROST */
        run->at = 3;
        request->kind = THOLE_9_TRANSFER;
        static const uint8_t bytes_31[] = { 0x31 };
        request->write = bytes_31;
        request->write_length = 1;
        request->read = run->buffer;
        request->read_length = 3;
        return THOLE_9_SUCCEEDED;
    }
    case 3: {
        if (!answered) {
            return THOLE_9_FAILED_NO_ANSWER;
        }
        if (!thole_9_frost_unpack(&device->frost, run->buffer)) {
            return THOLE_9_FAILED_CHECK_FAILED;
        }
        device->has_frost = true;
        run->at = 4;
        return THOLE_9_SUCCEEDED;
    }
    default:
        return THOLE_9_SUCCEEDED;
    }
}

thole_9_outcome_t thole_9_sleep_step(thole_9_sleep_run_t *run, thole_9_device_t *device, bool answered,
        thole_9_request_t *request)
{
    thole_9_settings_t *const settings = &device->settings;
    *request = (thole_9_request_t){ .kind = THOLE_9_FINISHED };
    switch (run->at) {
    case 0: {
        /* MODE: RUN = stopped */
        const uint8_t mode_1 = (uint8_t)(settings->mode & 0x2E);
        run->mode_written = mode_1;
        run->out[0] = 0x14;
        run->out[1] = mode_1;
        run->at = 1;
        request->kind = THOLE_9_TRANSFER;
        request->write = run->out;
        request->write_length = 2;
        return THOLE_9_SUCCEEDED;
    }
    case 1: {
        if (!answered) {
            return THOLE_9_FAILED_NO_ANSWER;
        }
        settings->mode = (uint8_t)(settings->mode & 0x2E);
        /* compare MODE with what was written */
        run->at = 2;
        request->kind = THOLE_9_TRANSFER;
        static const uint8_t bytes_14[] = { 0x14 };
        request->write = bytes_14;
        request->write_length = 1;
        request->read = run->buffer;
        request->read_length = 1;
        return THOLE_9_SUCCEEDED;
    }
    case 2: {
        if (!answered) {
            return THOLE_9_FAILED_NO_ANSWER;
        }
        if ((run->buffer[0] ^ run->mode_written) != 0) {
            return THOLE_9_FAILED_NOT_TAKEN;
        }
        run->at = 3;
        return THOLE_9_SUCCEEDED;
    }
    default:
        return THOLE_9_SUCCEEDED;
    }
}

/* Does what a routine asks for. */
static thole_9_bus_result_t thole_9_serve(thole_9_driver_t *driver, const thole_9_request_t *request)
{
    switch (request->kind) {
    case THOLE_9_TRANSFER:
        return driver->transfer(driver->user, driver->address, request->write, request->write_length, request->read,
                request->read_length);
    case THOLE_9_WAIT:
        driver->wait(driver->user, request->micros);
        return THOLE_9_BUS_DONE;
    case THOLE_9_FINISHED:
    default:
        return THOLE_9_BUS_DONE;
    }
}

thole_9_outcome_t thole_9_measure(thole_9_driver_t *driver)
{
    thole_9_measure_run_t run = { 0 };
    bool answered = true;

    for (;;) {
        thole_9_request_t request;
        const thole_9_outcome_t outcome = thole_9_measure_step(&run, &driver->device, answered, &request);
        if ((outcome != THOLE_9_SUCCEEDED) || (request.kind == THOLE_9_FINISHED)) {
            return outcome;
        }
        const thole_9_bus_result_t result = thole_9_serve(driver, &request);
        if (result == THOLE_9_BUS_ERROR) {
            return THOLE_9_FAILED_BUS;
        }
        answered = result == THOLE_9_BUS_DONE;
    }
}

thole_9_outcome_t thole_9_sleep(thole_9_driver_t *driver)
{
    thole_9_sleep_run_t run = { 0 };
    bool answered = true;

    for (;;) {
        thole_9_request_t request;
        const thole_9_outcome_t outcome = thole_9_sleep_step(&run, &driver->device, answered, &request);
        if ((outcome != THOLE_9_SUCCEEDED) || (request.kind == THOLE_9_FINISHED)) {
            return outcome;
        }
        const thole_9_bus_result_t result = thole_9_serve(driver, &request);
        if (result == THOLE_9_BUS_ERROR) {
            return THOLE_9_FAILED_BUS;
        }
        answered = result == THOLE_9_BUS_DONE;
    }
}
