"""Both directions of Modbus between the command and a package from elsewhere; `tools/modbus-peers` runs it."""
import asyncio
import logging
import os
import pty
import re
import subprocess
import threading
import time
import tty

from pymodbus.client import ModbusSerialClient, ModbusTcpClient
from pymodbus.datastore import ModbusDeviceContext, ModbusSequentialDataBlock, ModbusServerContext
from pymodbus.framer import FramerType
from pymodbus.server import StartAsyncSerialServer, StartAsyncTcpServer

# Its own complaints about units that nobody has are none of ours.
logging.getLogger("pymodbus").setLevel(logging.CRITICAL + 1)
logging.getLogger("pymodbus_internal").setLevel(logging.CRITICAL + 1)

SHEET = "sheets/garboard-rs.toml"
UNIT = 17
AIR = [0x0003, 0x00D7, 0xFFDA, 0x11A0, 0x5000, 0x449A, 0x0074, 0xCBB1]


def yemdo(*args, code=0):
    done = subprocess.run(["yemdo", *args], capture_output=True, text=True, timeout=60)
    assert done.returncode == code, f"{args}: exit {done.returncode}\n{done.stdout}{done.stderr}"
    return done.stdout + done.stderr


def context():
    # Its blocks count from one.
    inputs = ModbusSequentialDataBlock(1, [0] * 10 + AIR + [0] * 10)
    holding = ModbusSequentialDataBlock(1, [0] * 100 + [180, 0xFFCE, 0, 0, 0, 0] + [0] * 10)
    bits = ModbusSequentialDataBlock(1, [True, False, True] + [False] * 20)
    return ModbusServerContext(devices={UNIT: ModbusDeviceContext(di=bits, co=bits, ir=inputs, hr=holding)}, single=False)


def in_background(server):
    threading.Thread(target=lambda: asyncio.run(server()), daemon=True).start()
    time.sleep(1.0)


def our_client(place):
    shown = yemdo("read", SHEET, "--at", place)
    assert "21.5  °C" in shown and "-3.8  °C" in shown and "the filter is due" in shown, shown
    shown = yemdo("configure", SHEET, "wanted_supply=21 °C", "--at", place)
    assert "1 register written and verified" in shown, shown
    shown = yemdo("decode", SHEET, "--frame", "SWITCHES", "--at", place, "--format", "json")
    assert '"fan_on":1' in shown.replace(" ", ""), shown
    shown = yemdo("scan", place.split("@")[0], "--units", "16-18", "--sheet", SHEET, "--timeout", "300 ms")
    assert re.search(r"17 +0x11 +responds +garboard-rs", shown), shown


def their_client(client):
    assert client.connect()
    ask = {"device_id": UNIT}
    assert client.read_input_registers(10, count=2, **ask).registers == [1, 195]
    assert not client.write_register(100, 205, **ask).isError()
    assert not client.write_registers(100, [206, 0xFFF6], **ask).isError()
    assert client.read_holding_registers(100, count=2, **ask).registers == [206, 0xFFF6]
    assert not client.mask_write_register(address=100, and_mask=0xFF00, or_mask=0x0012, **ask).isError()
    read = client.readwrite_registers(read_address=100, read_count=1, write_address=101, values=[7], **ask)
    assert read.registers == [0x0012], read
    assert client.read_coils(0, count=4, **ask).bits[:4] == [True, False, True, False]
    assert not client.write_coil(1, True, **ask).isError()
    assert client.read_coils(0, count=2, **ask).bits[:2] == [True, True]
    wrong = client.read_input_registers(500, count=1, **ask)
    assert wrong.isError() and wrong.exception_code == 2, wrong
    client.close()


# Their server, our client: TCP, then RTU.
in_background(lambda: StartAsyncTcpServer(context(), address=("127.0.0.1", 15511)))
our_client(f"tcp:127.0.0.1:15511@{UNIT}")
near, far = pty.openpty()
other_near, other_far = pty.openpty()
for end in (near, far, other_near, other_far):
    tty.setraw(end)


def copy(source, sink):
    while True:
        try:
            os.write(sink, os.read(source, 256))
        except OSError:
            return


threading.Thread(target=copy, args=(near, other_near), daemon=True).start()
threading.Thread(target=copy, args=(other_near, near), daemon=True).start()
in_background(lambda: StartAsyncSerialServer(context(), framer=FramerType.RTU, port=os.ttyname(far), baudrate=19200))
our_client(f"rtu:{os.ttyname(other_far)},19200,none@{UNIT}")

# Our server, their client: TCP, then RTU.
served = subprocess.Popen(["yemdo", "stand-in", SHEET, "--listen", "127.0.0.1:15512", "supply=19.5", "--for", "20 s"], stdout=subprocess.PIPE, text=True)
served.stdout.readline()
their_client(ModbusTcpClient("127.0.0.1", port=15512))
served.kill()
served = subprocess.Popen(["yemdo", "stand-in", SHEET, "--terminal", "supply=19.5", "--for", "20 s"], stdout=subprocess.PIPE, text=True)
path = served.stdout.readline().split("rtu:")[1].strip()
their_client(ModbusSerialClient(path, framer=FramerType.RTU, baudrate=19200, timeout=2))
served.kill()
print("tools/modbus-peers: both directions work, over TCP and over a serial line")
