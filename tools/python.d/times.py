# Microseconds for a frame, emitted and by hand with struct.
import struct
import sys
import time

import thole_9

FROST = bytes([0x10, 0x68, 0x87])


def by_hand(data):
    """As people write it for thole-9."""
    if (~(data[0] + data[1])) & 0xFF != data[2]:
        return None
    raw = struct.unpack(">h", data[:2])[0] >> 2
    if data[1] & 1:
        return None
    return raw * 0.02


def ticks():
    return time.ticks_us() if hasattr(time, "ticks_us") else time.perf_counter() * 1e6


def cost(function, count):
    best = None
    for _ in range(5):
        start = ticks()
        for _ in range(count):
            function(FROST)
        took = (ticks() - start) / count
        best = took if best is None or took < best else best
    return best


count = 20000
emitted, hand = cost(thole_9.frost_decode, count), cost(by_hand, count)
assert thole_9.frost_decode(FROST).temperature.value == by_hand(FROST)
print("{}: thole-9 {:.2f} us emitted, {:.2f} us by hand, {:.1f} times".format(sys.implementation.name, emitted, hand, emitted / hand))
