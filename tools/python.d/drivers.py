# Emitted drivers over bus objects of every kind, on computers and microcontrollers: the same bytes, and the readings of them.
import thole_9

FROST = bytes([0x10, 0x68, 0x87])


class Log:
    def __init__(self, answers):
        self.answers, self.seen, self.waited = list(answers), [], 0

    def wait(self, micros):
        self.waited += micros

    async def wait_async(self, micros):
        self.waited += micros


class Micro(Log):
    """As on a microcontroller."""

    def writeto(self, address, data, stop=True):
        self.seen.append(("w", address, bytes(data), stop))

    def readfrom_into(self, address, into):
        into[:] = self.answers.pop(0)
        self.seen.append(("r", address, len(into)))


class Dead(Log):
    def writeto(self, address, data, stop=True):
        raise OSError(19, "no such device")

    def readfrom_into(self, address, into):
        raise OSError(19, "no such device")


def function(log):
    def transfer(address, write, read):
        if write or read is None:
            log.seen.append(("w", address, bytes(write), read is None))
        if read is not None:
            read[:] = log.answers.pop(0)
            log.seen.append(("r", address, len(read)))
        return True

    return transfer


class i2c_msg:
    """A message of a Linux bus."""

    def __init__(self, read, address, data):
        self.is_read, self.address, self.data = read, address, data

    @staticmethod
    def read(address, length):
        return i2c_msg(True, address, bytes(length))

    @staticmethod
    def write(address, data):
        return i2c_msg(False, address, bytes(data))

    def __iter__(self):
        return iter(self.data)


class Linux:
    """A bus that takes messages, with a stop after the last."""

    def __init__(self, log):
        self.log = log

    def i2c_rdwr(self, *messages):
        for at, message in enumerate(messages):
            if message.is_read:
                message.data = self.log.answers.pop(0)
                self.log.seen.append(("r", message.address, len(message.data)))
            else:
                self.log.seen.append(("w", message.address, message.data, at + 1 == len(messages)))


def run(driver, name):
    result = getattr(driver, name)()
    if result is not None:
        # Nothing here waits: no event loop is needed.
        try:
            while True:
                result.send(None)
        except StopIteration:
            pass


def measured(module, bus, log):
    waits = log.wait
    if "asyncio" in dir(module):
        waits = log.wait_async
    driver = module.Driver(bus, wait=waits)
    run(driver, "measure")
    return driver


expected = [("w", 0x51, b"\x14\x86", True), ("w", 0x51, b"\x31", False), ("r", 0x51, 3)]
kinds = []
micro = Micro([FROST])
for kind, bus, log in [("board", micro, micro), ("function", None, Log([FROST])), ("Linux", None, Log([FROST]))]:
    if bus is None:
        bus = function(log) if kind == "function" else Linux(log)
    if kind == "Linux" and not hasattr(type(bus), "__mro__"):
        # On a microcontroller there is no Linux.
        continue
    driver = measured(thole_9, bus, log)
    assert log.seen == expected, (kind, log.seen)
    reading = driver.device.frost_readings().temperature
    assert (reading.value, reading.status) == (21.0, thole_9.Status.OK), (kind, reading)
    assert log.waited == 129800, (kind, log.waited)
    kinds.append(kind)

dead = Dead([])
try:
    measured(thole_9, dead, dead)
    raise SystemExit("a part that is absent has measured")
except thole_9.Failure as failure:
    assert failure.reason == thole_9.NO_ANSWER

# A damaged frame is no reading.
bad = Micro([bytes([0x10, 0x68, 0x88])])
try:
    measured(thole_9, bad, bad)
    raise SystemExit("a damaged frame was taken")
except thole_9.Failure as failure:
    assert failure.reason == thole_9.CHECK_FAILED

# A refused value changes no setting.
settings = thole_9.Settings()
for value in (-1, 8):
    assert not settings.set_resolution(value) and settings.mode == 0x86
print("drivers: {}".format(", ".join(kinds)))
