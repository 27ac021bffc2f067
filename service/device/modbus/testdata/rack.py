"""A rack on pymodbus, which nobody here wrote: values of every type from address 0 on, in both word orders.

rack.py tcp PORT, or rack.py serial LINE. It says "ready", and to each line on its input tells what it holds.
"""

import json
import sys
import threading

from pymodbus.constants import Endian
from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext
from pymodbus.payload import BinaryPayloadBuilder
from pymodbus.server import StartSerialServer, StartTcpServer
from pymodbus.transaction import ModbusRtuFramer

holding = []
for order in (Endian.Big, Endian.Little):
    b = BinaryPayloadBuilder(byteorder=Endian.Big, wordorder=order)
    b.add_16bit_uint(65000)
    b.add_16bit_int(-1234)
    b.add_32bit_uint(4000000000)
    b.add_32bit_int(-123456789)
    b.add_32bit_float(7.26)
    b.add_64bit_uint(1 << 40)
    b.add_64bit_int(-(1 << 41))
    b.add_64bit_float(-0.123456789)
    holding += b.to_registers()

slave = ModbusSlaveContext(
    di=ModbusSequentialDataBlock(0, [1, 0, 1] + [0] * 20),
    co=ModbusSequentialDataBlock(0, [0] * 23),
    hr=ModbusSequentialDataBlock(0, holding + [0] * 40),
    ir=ModbusSequentialDataBlock(0, holding[:4]),
    zero_mode=True,
)


def tell():
    for _ in sys.stdin:
        print(json.dumps({"coils": [int(v) for v in slave.getValues(1, 0, 8)], "holding": slave.getValues(3, len(holding), 40)}), flush=True)


threading.Thread(target=tell, daemon=True).start()
context = ModbusServerContext(slaves=slave, single=True)
print("ready", flush=True)
if sys.argv[1] == "tcp":
    StartTcpServer(context=context, address=("127.0.0.1", int(sys.argv[2])))
else:
    StartSerialServer(context=context, framer=ModbusRtuFramer, port=sys.argv[2], baudrate=19200, timeout=0.05)
