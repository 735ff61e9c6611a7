"""What Wine lacks or answers otherwise than Windows: done and told in the network that this is in.

A request is a line of JSON, and so is its answer. It says the numbers that Windows would: 0 for
done, 5010 for what is there already, 1168 for what is not there.
"""

import contextlib
import json
import socket
import struct
import subprocess
import sys
import threading
import time

DONE, NOT_FOUND, THERE_ALREADY = 0, 1168, 5010
FOR_GOOD = 0xFFFFFFFF
BY_HAND, BY_DHCP = 1, 3
"""Where an address comes from, as nldef.h numbers it."""

added = set()
"""What was added here: Windows calls it set by hand, also with a lifetime."""

duplicates = set()
"""What was added here and somebody else has: Windows lists it, and does not use it."""

DUPLICATE, PREFERRED = 2, 4
"""How far Windows is with an address, as nldef.h numbers it."""

ETHERTYPE_ARP = 0x0806
BROADCAST = b"\xff" * 6


def address(what, index, interface, seconds):
    words = ["ip", "addr", what, interface, "dev", socket.if_indextoname(index)]
    if what == "add":
        words += [] if interface.endswith(("/31", "/32")) else ["brd", "+"]
    if what == "add" and seconds != FOR_GOOD:
        words += ["valid_lft", str(seconds), "preferred_lft", str(seconds)]
    own = socket.if_indextoname(index)
    taken = what == "add" and _somebody_has(own, interface.partition("/")[0])
    code = _done(words, what)
    (duplicates.add if taken else duplicates.discard)((index, interface))
    (added.add if what == "add" else added.discard)((index, interface))
    return code


def route(what, index, to, gateway, metric):
    # Wine reads the digits of a metric as a hexadecimal number.
    words = ["ip", "route", what, to, "dev", socket.if_indextoname(index), "metric", f"{metric:x}"]
    return _done([*words, "via", gateway] if gateway else words, what)


def _done(words, what):
    if subprocess.run(words, capture_output=True).returncode == 0:
        return DONE
    return THERE_ALREADY if what == "add" else NOT_FOUND


def _somebody_has(adapter, address):
    """Ask as Windows does before it uses an address (RFC 5227 §2.1.1), in less time."""
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ETHERTYPE_ARP)) as line:
        line.bind((adapter, ETHERTYPE_ARP))
        mac = line.getsockname()[4]
        head = struct.pack("!HHBBH", 1, 0x0800, 6, 4, 1)
        probe = head + mac + bytes(4) + bytes(6) + socket.inet_aton(address)
        for _ in range(3):
            line.send(BROADCAST + mac + struct.pack("!H", ETHERTYPE_ARP) + probe)
            until = time.monotonic() + 0.2
            while (left := until - time.monotonic()) > 0:
                line.settimeout(left)
                with contextlib.suppress(TimeoutError):
                    heard = line.recv(64)[14:]
                    if heard[14:18] == socket.inet_aton(address) and heard[8:14] != mac:
                        return True
    return False


def resolve(index, address):
    """Ask anew who has an address, and wait, as Windows does; the MAC or None."""
    adapter = socket.if_indextoname(index)
    subprocess.run(["ip", "neigh", "del", address, "dev", adapter], capture_output=True)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line, contextlib.suppress(OSError):
        line.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, adapter.encode())
        line.sendto(b"", (address, 9))
    until = time.monotonic() + 3
    words = ["ip", "-j", "neigh", "show", "to", address, "dev", adapter]
    while time.monotonic() < until:
        found = json.loads(subprocess.run(words, capture_output=True).stdout or "[]")
        if any("FAILED" in each["state"] for each in found):
            return None
        macs = [each["lladdr"] for each in found if "lladdr" in each]
        if macs:
            return macs[0]
        time.sleep(0.05)
    return None


def told():
    """Each adapter's name as a person wrote it, and each address's origin and seconds."""
    links = json.loads(subprocess.run(["ip", "-j", "addr"], capture_output=True).stdout)
    return {
        str(link["ifindex"]): {
            "name": _called(link["ifname"]),
            "addresses": {
                own["local"]: _origin(link["ifindex"], own)
                for own in link["addr_info"]
                if own["family"] == "inet"
            },
        }
        for link in links
    }


def _called(adapter):
    """Its name as a person wrote it."""
    with open(f"/sys/class/net/{adapter}/ifalias") as file:
        return file.read().strip() or adapter


def _origin(index, own):
    key = index, f"{own['local']}/{own['prefixlen']}"
    leased = own.get("dynamic", False) and key not in added
    state = DUPLICATE if key in duplicates else PREFERRED
    return [BY_DHCP if leased else BY_HAND, own["valid_life_time"], state]


ANSWERS = {"address": address, "route": route, "told": told, "resolve": resolve}


def main():
    # On Windows no address goes with another one of its subnet.
    with open("/proc/sys/net/ipv4/conf/all/promote_secondaries", "w") as file:
        file.write("1")
    with socket.create_server(("127.0.0.1", int(sys.argv[1])), backlog=256) as door:
        print("ready", flush=True)
        while True:
            threading.Thread(target=answer, args=(door.accept()[0],), daemon=True).start()


def answer(line):
    # Who is killed meanwhile asks for nothing, or does not read.
    with contextlib.suppress(OSError, ValueError), line, line.makefile("rw") as file:
        what, *words = json.loads(file.readline())
        file.write(json.dumps(ANSWERS[what](*words)) + "\n")
        file.flush()


if __name__ == "__main__":
    main()
