# The emitted driver of garboard-rs with a client of Modbus TCP in a few lines, against a stand-in at the given port.
import socket
import struct
import sys
import time

import garboard_rs


class Client:
    def __init__(self, port):
        for _ in range(50):
            try:
                self.socket = socket.create_connection(("127.0.0.1", port), 2)
                break
            except OSError:
                time.sleep(0.1)
        self.number = 0

    def ask(self, unit, pdu):
        self.number += 1
        self.socket.sendall(struct.pack(">HHHB", self.number, 0, len(pdu) + 1, unit) + pdu)
        head = self.take(7)
        answer = self.take(struct.unpack(">H", head[4:6])[0] - 1)
        return None if answer[0] & 0x80 else answer

    def take(self, count):
        data = b""
        while len(data) < count:
            data += self.socket.recv(count - len(data))
        return data

    def read(self, unit, function, address, count):
        answer = self.ask(unit, struct.pack(">BHH", function, address, count))
        return None if answer is None else answer[2:]

    def write(self, unit, address, data):
        head = struct.pack(">BHHB", 16, address, len(data) // 2, len(data))
        return self.ask(unit, head + data) is not None


client = Client(int(sys.argv[1]))
driver = garboard_rs.Driver(client.read, client.write)
driver.measure()
readings = driver.device.air_readings()
print("supply {} °C, outside {} °C".format(readings.supply.value, readings.outside.value))
assert abs(readings.supply.value - 19.5) < 0.06 and abs(readings.outside.value + 7.4) < 0.06
