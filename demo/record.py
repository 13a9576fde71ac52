#!/usr/bin/env python3
"""Makes the recorded day in the ship's hall: demo/strake-20.csv and demo/thole-9.csv.

The day is made up, and the same at every run. Frames are packed by hand here, with nothing of Yemdo's, so
that the logs are a check on it. Run it from the repository's root: python3 demo/record.py
"""

import math
import random

DAY = "2031-02-07"
STEP = 30  # seconds between records


def crc8(data, poly=0x4D, init=0x5A):
    register = init
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = ((register << 1) ^ poly if register & 0x80 else register << 1) & 0xFF
    return register


def strake(temperature, humidity, supply, sequence, busy=False, ready=True):
    """One AIR frame. `humidity` None stands for a code at the end of its range."""
    t = round((temperature - 20) / 0.015) & 0x3FFF
    h = 0x3FFF if humidity is None else round((humidity + 11) / 0.008)
    v = round(supply / 1.5e-3)
    bits = (v << 28) | (h << 14) | t
    frame = bits.to_bytes(5, "big") + bytes([((sequence & 15) << 4) | (ready << 1) | busy])
    return frame + bytes([crc8(frame)])


def thole(temperature, bits, alert, converting=False):
    """One FROST frame, converted at 10 to 14 bits."""
    code = max(-0x2000, min(0x1FFF, round(temperature / 0.02)))
    code = (code >> (14 - bits)) << (14 - bits)
    word = ((code & 0x3FFF) << 2) | (alert << 1) | converting
    frame = word.to_bytes(2, "big")
    return frame + bytes([~sum(frame) & 0xFF])


def clock(second):
    return f"{DAY}T{second // 3600:02}:{second // 60 % 60:02}:{second % 60:02}"


def bell(hour, middle, width):
    return math.exp(-(((hour - middle) / width) ** 2))


def day(chance):
    """Every record's time, hall and pipe temperatures, humidity and supply."""
    for second in range(0, 86400, STEP):
        hour = second / 3600
        outside = -4.5 + 7.5 * bell(hour, 14.2, 4.2) - 1.8 * bell(hour, 5.5, 2.0)
        heating = 6.5 / (1 + math.exp(-(hour - 6.6) * 3)) - 5.0 / (1 + math.exp(-(hour - 19.4) * 2.2))
        doors = -3.2 * bell(hour, 10.15, 0.16) - 4.1 * bell(hour, 16.4, 0.2)
        hall = 9.5 + 0.35 * (outside + 4.5) + heating + doors + 0.05 * chance.gauss(0, 1)
        humidity = 56 - 1.9 * (hall - 9.5) + 6 * math.sin(hour / 3.1) + 0.35 * chance.gauss(0, 1)
        spraying = bell(hour, 13.1, 0.27)  # the hull is sprayed
        humidity = None if spraying > 0.55 else min(99, humidity + 50 * spraying)
        supply = 3.31 - 0.04 * (hour / 24) + 0.003 * chance.gauss(0, 1)
        yield second, hall, outside + 0.04 * chance.gauss(0, 1), humidity, supply


def damaged(frame, chance):
    """A flipped bit, at times; a lost end, seldom."""
    kind = chance.random()
    if kind < 0.009:
        bit = chance.randrange(len(frame) * 8)
        frame = bytearray(frame)
        frame[bit // 8] ^= 1 << bit % 8
    elif kind < 0.0105:
        frame = frame[: chance.randrange(1, len(frame))]
    return bytes(frame)


def lantern(lux, ready=True):
    """A LIGHT frame at fivefold gain and 162 ms: status, level, warm, each high byte first."""
    level = min(0xFFFF, round(lux * 5 * 162 / 8.1))
    status = (0x20 if ready else 0) | (0x80 if level == 0xFFFF else 0) | (0x200 if lux > 250 else 0)
    warm = min(0xFFFF, round(level * 0.62))
    return b"".join(word.to_bytes(2, "big") for word in (status, level, warm))


def light():
    """Every two hours: the lamps of the hall, the doors at noon, a lamp held to the hull at four."""
    for hour, lux in ((6, 0.4), (8, 92.5), (10, 118.0), (12, 287.2), (14, 131.6), (16, 2400.0), (18, 96.3), (20, None)):
        yield hour * 3600 + 3, lantern(0 if lux is None else lux, ready=lux is not None)


def write(name, records):
    with open(f"demo/{name}.csv", "w", newline="\n") as out:
        out.write("time,frame\n")
        for second, frame in records:
            out.write(f"{clock(second)},{frame.hex(' ').upper()}\n")


def main():
    chance = random.Random(20)
    air, frost = [], []
    alert = False
    for index, (second, hall, outside, humidity, supply) in enumerate(day(chance)):
        late = chance.random() < 0.006
        frame = strake(hall, humidity, supply, index, busy=late, ready=not late)
        air.append((second + 1, damaged(frame, chance)))
        alert = outside < 1.0 if alert else outside < 0.0
        bits = 10 if 1.5 <= second / 3600 < 4.5 else 14  # saving power at night
        # Twice in the day the probe on the pipe comes loose and its line floats to the end of the range.
        loose = 8.05 < second / 3600 < 8.2 or 21.5 < second / 3600 < 21.56
        frame = thole(400 if loose else outside, bits, alert, converting=index % 720 == 0)
        frost.append((second + 2, damaged(frame, chance)))
    write("strake-20", air)
    write("thole-9", frost)
    write("lantern-16", light())


if __name__ == "__main__":
    main()
