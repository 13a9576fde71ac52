# Runs of the library that emitted routines are held against, and the tests of all modules, on computers and microcontrollers.

import sys


def number(data, at, count):
    return int.from_bytes(data[at : at + count], "big")


class Script:
    """Operations and answers: see `script` in mod.rs."""

    def __init__(self, data):
        self.data = data
        self.at = 0

    def block(self):
        count = number(self.data, self.at, 2)
        self.at += 2 + count
        return self.data[self.at - count : self.at]

    def answer(self, module, request):
        """Whether the request was answered; ValueError if another one comes next."""
        kind, answered = self.data[self.at], self.data[self.at + 1]
        self.at += 2
        if kind == 0:
            sent, came = self.block(), self.block()
            read = 0 if request.read is None else len(request.read)
            if (request.kind, request.write, read) != (module.TRANSFER, sent, len(came)):
                raise ValueError("sent {}, reads {}".format(sent, len(came)))
        elif kind in (1, 2, 3):
            micros = number(self.data, self.at, 4)
            self.at += 4
            expected = module.WAIT if kind == 1 else module.LINE
            if (request.kind, request.micros) != (expected, micros) or (kind > 1 and request.high != (kind == 3)):
                raise ValueError("kind {}, {} us".format(kind, micros))
            came = b""
        else:
            head = number(self.data, self.at, 2), number(self.data, self.at + 2, 2), number(self.data, self.at + 4, 2)
            function, count, address = head[0] >> 8, head[1], head[2]
            self.at += 6
            came = self.block()
            if kind == 4:
                same = (request.kind, request.function, request.count) == (module.MODBUS_READ, function, count)
            else:
                same = (request.kind, request.write) == (module.MODBUS_WRITE, came)
            if not same or request.address != address:
                raise ValueError("Modbus {} {} {}".format(function, address, count))
        if answered and request.read is not None and kind in (0, 4):
            request.read[:] = came
        return bool(answered)


def replay(module, name, data):
    script, run, device, answered = Script(data), getattr(module, name)(), module.Device(), True
    while True:
        try:
            request = run.step(device, answered)
        except module.Failure:
            request = False
        if not request:
            if script.data[script.at] != 255 or bool(script.data[script.at + 1]) != (request is None):
                raise ValueError("ended {}".format(request))
            return
        if script.data[script.at] == 255:
            raise ValueError("continues with kind {}".format(request.kind))
        answered = script.answer(module, request)


def run(seed, name, replays):
    try:
        vectors = __import__(name + "_vectors")
        count = vectors.check()
        for run, which, data in replays:
            try:
                replay(vectors.part, run, bytes.fromhex(data))
            except ValueError as error:
                raise ValueError("{} {}: {}".format(run, which, error))
            count += 1
        print(seed, "Ok({})".format(count))
    except Exception as error:
        print(seed, repr(error).replace("\n", " "))
    # Thousands of modules do not fit into a small heap.
    for one in (name, name + "_vectors"):
        sys.modules.pop(one, None)


