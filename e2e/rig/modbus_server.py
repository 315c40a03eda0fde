"""A Modbus server of another make, for tests: tcp PORT, serial PATH (RTU), or ascii PATH."""

import sys

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext
from pymodbus.device import ModbusDeviceIdentification
from pymodbus.server import StartSerialServer, StartTcpServer
from pymodbus.transaction import ModbusAsciiFramer, ModbusRtuFramer

mode, where = sys.argv[1], sys.argv[2]

# Address n of each table holds n; registers 20 and 21 the float 1.5, 22 to 25 a number of 64 bits.
registers = list(range(200))
registers[20:22] = [0x3FC0, 0x0000]
registers[22:26] = [0xFFFF, 0xFFFF, 0xFFFF, 0xFFF0]


def block(values):
    return ModbusSequentialDataBlock(0, values)


unit = ModbusSlaveContext(
    co=block([n % 2 for n in range(200)]),
    di=block([(n + 1) % 2 for n in range(200)]),
    hr=block(list(registers)),
    ir=block(list(registers)),
    zero_mode=True,
)
context = ModbusServerContext(slaves={7: unit}, single=False)
identity = ModbusDeviceIdentification()
identity.VendorName = "Somebody else"
identity.ProductCode = "PY"
identity.MajorMinorRevision = "3.0"

if mode == "tcp":
    StartTcpServer(context=context, identity=identity, address=("127.0.0.1", int(where)))
else:
    framer = ModbusAsciiFramer if mode == "ascii" else ModbusRtuFramer
    StartSerialServer(context=context, identity=identity, framer=framer, port=where, baudrate=9600, timeout=0.05)
