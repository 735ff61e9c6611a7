"""A device made of a protocol stack that others wrote: ``device.py STACK NAME ADDRESS``.

General stacks from the registry, run in bare devices of a practice plant. What they say of
themselves is made up.
"""

from __future__ import annotations

import asyncio
import json
import socket
import sys
from functools import partial
from ipaddress import IPv4Interface
from pathlib import Path


def modbus(name: str, own: IPv4Interface) -> None:
    """Device identification (43/14), and one unit that is there."""
    from pymodbus import ModbusDeviceIdentification
    from pymodbus.server import StartTcpServer
    from pymodbus.simulator import DataType, SimData, SimDevice

    said = ModbusDeviceIdentification(
        info_name={
            "VendorName": "Curlew Gateways",
            "ProductCode": "EB2",
            "MajorMinorRevision": "2.004",
            "ProductName": "Ebb 2 scale",
            "UserApplicationName": name,
        }
    )
    unit = SimDevice(1, simdata=[SimData(0, datatype=DataType.REGISTERS, values=[7] * 8)])
    StartTcpServer(unit, identity=said, address=(str(own.ip), 502))


def gateway(name: str, own: IPv4Interface) -> None:
    """A gateway with 247 unit numbers of which seven answer: one after three seconds, two with an
    exception. The stack tells one identity for all of them. Writes down every question."""
    from pymodbus import ModbusDeviceIdentification
    from pymodbus.constants import ExcCodes
    from pymodbus.server import StartTcpServer
    from pymodbus.simulator import DataType, SimData, SimDevice

    async def answers(wait: float, code: ExcCodes | None, *_: object) -> ExcCodes | None:
        await asyncio.sleep(wait)
        return code

    def unit(number: int, wait: float = 0.0, code: ExcCodes | None = None) -> SimDevice:
        values = [0x0E31, *(100 * number + n for n in range(1, 16))]
        data = [SimData(0, datatype=DataType.REGISTERS, values=values)]
        return SimDevice(number, simdata=data, action=partial(answers, wait, code))

    def noted(sending: bool, pdu: object) -> object:
        if not sending:
            with Path("asked").open("a") as asked:
                asked.write(f"{pdu.dev_id} {pdu.function_code}\n")
        return pdu

    said = ModbusDeviceIdentification(
        info_name={"VendorName": "Godwit Instruments", "ProductName": "Float 2 level"}
    )
    # What has the number 0 answers for all others.
    units = [unit(0, code=ExcCodes.GATEWAY_NO_RESPONSE), *map(unit, (1, 2, 17, 247))]
    units += [unit(30, wait=3), unit(41, code=ExcCodes.DEVICE_BUSY)]
    units += [unit(42, code=ExcCodes.ILLEGAL_ADDRESS)]
    StartTcpServer(units, identity=said, address=(str(own.ip), 502), trace_pdu=noted)


def opcua(name: str, own: IPv4Interface) -> None:
    """A server without security."""
    from asyncua import Server

    async def serve() -> None:
        server = Server()
        await server.init()
        server.set_endpoint(f"opc.tcp://{own.ip}:4840/")
        server.set_server_name(name)
        async with server:
            await asyncio.Event().wait()

    asyncio.run(serve())


def bacnet(name: str, own: IPv4Interface) -> None:
    """A device object."""
    from bacpypes3.app import Application
    from bacpypes3.argparse import SimpleArgumentParser

    async def serve() -> None:
        number = str(7000 + own.ip.packed[3])
        words = ["--name", name, "--instance", number, "--address", str(own)]
        words += ["--vendoridentifier", "999"]
        app = Application.from_args(SimpleArgumentParser().parse_args(words))
        device = app.device_object
        device.vendorName = "Godwit Instruments"
        device.modelName = "Draught 3 controller"
        device.firmwareRevision = "4.001"
        device.location = "dryer hood"
        await asyncio.Event().wait()

    asyncio.run(serve())


def mdns(name: str, own: IPv4Interface) -> None:
    """A host that offers a page and a printer; it answers with NSEC records, as RFC 6762 asks."""
    from zeroconf import ServiceInfo, Zeroconf

    zeroconf = Zeroconf(interfaces=[str(own.ip)])
    for kind, port in (("_http._tcp.local.", 80), ("_ipp._tcp.local.", 631)):
        zeroconf.register_service(
            ServiceInfo(
                kind,
                f"{name}.{kind}",
                addresses=[own.ip.packed],
                port=port,
                server=f"{name}.local.",
            )
        )
    asyncio.run(asyncio.Event().wait())


def cip(name: str, own: IPv4Interface) -> None:
    """An EtherNet/IP device: List Identity, and a TCP/IP interface object that can be set."""
    configuration = {
        "ip_address": str(own.ip),
        "network_mask": str(own.netmask),
        "gateway_address": "0.0.0.0",
        "dns_primary": "0.0.0.0",
        "dns_secondary": "0.0.0.0",
        "domain_name": "",
    }
    Path("cpppo.cfg").write_text(
        "[Identity]\nVendor Number = 30101\nDevice Type = 14\nProduct Code Number = 41\n"
        f"Product Revision = {3 << 8 | 20}\nStatus Word = 48\n"
        f"Serial Number = {0x5A410000 + own.ip.packed[3]}\nProduct Name = Skerry 41 controller\n"
        "[TCPIP]\nInterface Status = 1\nConfiguration Capability = 21\n"
        f"Configuration Control = {1 if name.endswith('1') else 0}\n"
        f"Interface Configuration = {json.dumps(configuration)}\nHost Name = {name}\n"
    )
    from cpppo.server.enip.main import main

    main(argv=["--address", f"{own.ip}:44818", "SPEED=INT[4]"])


if __name__ == "__main__":
    stack, name, address = sys.argv[1:]
    socket.setdefaulttimeout(None)
    globals()[stack](name, IPv4Interface(address))
