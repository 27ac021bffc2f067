"""A plant on pymodbus, which nobody here wrote: it prints each write with its time, and takes what happens in it from its input.

plant.py tcp PORT, or plant.py serial LINE. It says "ready". Its input has lines such as "holding 0 450", "discrete 0 1" and "coil 1 0".
"""

import json
import logging
import sys
import threading
import time

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext
from pymodbus.server import StartSerialServer, StartTcpServer
from pymodbus.transaction import ModbusRtuFramer

logging.disable(logging.ERROR)  # a program that is killed drops its connection
lock = threading.Lock()
tables = {"coil": 1, "discrete": 2, "holding": 3}


class Told(ModbusSequentialDataBlock):
    """Coils that tell what is written to them."""

    def setValues(self, address, values):
        before = [int(v) for v in self.getValues(address, len(values))]
        super().setValues(address, values)
        line = {"at": time.time_ns(), "first": address, "values": [int(v) for v in values], "before": before}
        with lock:
            print(json.dumps(line), flush=True)


coils = Told(0, [0] * 20)
slave = ModbusSlaveContext(
    di=ModbusSequentialDataBlock(0, [0] * 20),
    co=coils,
    hr=ModbusSequentialDataBlock(0, [0] * 20),
    ir=ModbusSequentialDataBlock(0, [0] * 20),
    zero_mode=True,
)


def live():
    for line in sys.stdin:
        table, address, value = line.split()
        if table == "coil":  # by another master, which is not told
            ModbusSequentialDataBlock.setValues(coils, int(address), [int(value)])
        else:
            slave.setValues(tables[table], int(address), [int(value)])


threading.Thread(target=live, daemon=True).start()
context = ModbusServerContext(slaves=slave, single=True)
print("ready", flush=True)
if sys.argv[1] == "tcp":
    StartTcpServer(context=context, address=("127.0.0.1", int(sys.argv[2])))
else:
    StartSerialServer(context=context, framer=ModbusRtuFramer, port=sys.argv[2], baudrate=19200, timeout=0.02)
