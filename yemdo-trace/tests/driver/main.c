/*
 * A hand-written driver for the lantern-16, on a bus that is driven bit by bit, with a part made of a few registers.
 * All level changes are written to standard output as a value change dump.
 *
 * Each argument plants one mistake in the driver.
 */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ---- the lines ---- */

static uint64_t now; /* ns */
static uint64_t stamped = UINT64_MAX;
static int scl = 1, sda_master = 1, sda_part = 1, sda_seen = 1;
static uint64_t quarter = 625; /* ns, 400 kHz */

static void stamp(void)
{
    if (stamped != now) {
        printf("#%llu\n", (unsigned long long)now);
        stamped = now;
    }
}

static void show(void)
{
    int sda = sda_master & sda_part;
    if (sda != sda_seen) {
        stamp();
        printf("%d\"\n", sda);
        sda_seen = sda;
    }
}

static void set_sda(int level)
{
    sda_master = level;
    show();
    now += quarter;
}

static void set_scl(int level)
{
    if (level != scl) {
        stamp();
        printf("%d!\n", level);
        scl = level;
    }
    now += quarter;
}

/* ---- the part: 16-bit registers, one address each ---- */

static uint16_t registers[256];
static uint64_t done_at;
static uint8_t pointer;
static unsigned received;  /* bytes since the address */
static uint16_t incoming;

static int exists(uint8_t at)
{
    return at == 0x30 || at == 0x12 || at == 0x15 || at == 0x1A || at == 0x21 || at == 0x22;
}

static int part_takes(uint8_t byte)
{
    if (received == 0) {
        pointer = byte;
    } else if (received % 2 == 1) {
        incoming = (uint16_t)(byte << 8);
    } else {
        incoming = (uint16_t)(incoming | byte);
        if (pointer == 0x12) {
            if (incoming & 0x1000) {
                static const unsigned ms[4] = {18, 54, 162, 486};
                done_at = now + (uint64_t)ms[incoming >> 9 & 3] * 1050000u;
                registers[0x15] = 0;
                incoming = (uint16_t)(incoming & ~0x1000u);
            }
            registers[0x12] = incoming;
        } else if (pointer == 0x1A) {
            registers[0x1A] = incoming;
        }
        pointer++;
    }
    received++;
    return 1;
}

static uint8_t part_gives(unsigned index)
{
    if (done_at != 0 && now >= done_at) {
        registers[0x15] |= 0x20;
        registers[0x21] = 0x1770;
        registers[0x22] = 0x0DAC;
        done_at = 0;
    }
    uint8_t at = (uint8_t)(pointer + index / 2);
    uint16_t value = exists(at) ? registers[at] : 0xFFFF;
    uint8_t byte = index % 2 == 0 ? (uint8_t)(value >> 8) : (uint8_t)value;
    if (at == 0x15 && index % 2 == 1) {
        registers[0x15] = 0;
    }
    return byte;
}

/* ---- the master, bit by bit ---- */

static int clock_bit(int level)
{
    set_sda(level);
    set_scl(1);
    int read = sda_master & sda_part;
    now += quarter;
    set_scl(0);
    return read;
}

static int send_byte(uint8_t byte, int acknowledged)
{
    for (int bit = 7; bit >= 0; bit--) {
        clock_bit(byte >> bit & 1);
    }
    sda_part = !acknowledged;
    int nak = clock_bit(1);
    sda_part = 1;
    show();
    return !nak;
}

static uint8_t read_byte(uint8_t byte, int last)
{
    uint8_t value = 0;
    for (int bit = 7; bit >= 0; bit--) {
        sda_part = byte >> bit & 1;
        value = (uint8_t)(value << 1 | clock_bit(1));
    }
    sda_part = 1;
    clock_bit(last);
    return value;
}

static void start(void)
{
    set_sda(1);
    set_scl(1);
    set_sda(0);
    set_scl(0);
}

static void stop(void)
{
    set_sda(0);
    set_scl(1);
    set_sda(1);
    now += 8 * quarter;
}

#define ADDRESS 0x4Eu

static void bus_write(const uint8_t *bytes, size_t count)
{
    start();
    send_byte(ADDRESS << 1, 1);
    received = 0;
    for (size_t i = 0; i < count; i++) {
        send_byte(bytes[i], part_takes(bytes[i]));
    }
    stop();
}

static void bus_read(uint8_t at, uint8_t *bytes, size_t count)
{
    start();
    send_byte(ADDRESS << 1, 1);
    received = 0;
    send_byte(at, part_takes(at));
    start();
    send_byte(ADDRESS << 1 | 1, 1);
    for (size_t i = 0; i < count; i++) {
        bytes[i] = read_byte(part_gives((unsigned)i), i + 1 == count);
    }
    stop();
}

static void wait_ms(unsigned ms)
{
    now += (uint64_t)ms * 1000000u;
}

/* ---- the driver ---- */

static int mistakes[16];

static uint16_t read_register(uint8_t at)
{
    uint8_t bytes[2];
    bus_read(at, bytes, 2);
    return (uint16_t)(bytes[0] << 8 | bytes[1]);
}

static void write_register(uint8_t at, uint16_t value)
{
    uint8_t bytes[3] = {at, (uint8_t)(value >> 8), (uint8_t)value};
    bus_write(bytes, 3);
}

static void read_counts(void)
{
    uint8_t counts[4];
    read_register(0x15);
    bus_read(0x21, counts, 4);
}

static void measure(uint16_t config)
{
    write_register(0x12, config | 0x1000);
    wait_ms(mistakes[1] ? 100 : 187);
    read_counts();
}

int main(int argc, char **argv)
{
    for (int i = 1; i < argc; i++) {
        mistakes[atoi(argv[i]) & 15] = 1;
    }
    registers[0x30] = 0x4C61;
    registers[0x12] = 0x8402;
    registers[0x1A] = 0xFFFF;
    printf("$date a day $end\n$timescale 1 ns $end\n$scope module board $end\n$var wire 1 ! SCL $end\n$var wire 1 \" SDA $end\n"
           "$upscope $end\n$enddefinitions $end\n#0\n1!\n1\"\n");
    now = 1000000;

    read_register(0x30);
    if (mistakes[7]) {
        read_counts(); /* the part is asleep */
    }
    write_register(0x12, 0x0402);
    wait_ms(8);
    if (mistakes[8]) {
        read_counts(); /* no measurement was started */
    }
    if (mistakes[3]) {
        write_register(0x30, 0x4C61); /* the identity can only be read */
    }
    if (mistakes[4]) {
        read_register(0x55); /* there is no such register */
    }
    if (mistakes[5]) {
        write_register(0x12, 0x0406); /* GAIN has no code 3 */
    }
    if (mistakes[6]) {
        uint8_t half;
        bus_read(0x1A, &half, 1); /* half of a limit */
    }
    write_register(0x1A, 0x7D0A);
    measure(mistakes[2] ? 0x0502 : 0x0402); /* bit 8 is reserved */
    measure(0x0402);
    write_register(0x12, 0x8402);
    stamp();
    now += 1000000;
    stamp();
    return 0;
}
