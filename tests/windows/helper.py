"""Sets addresses in the network that it runs in, for the two calls of Windows that Wine lacks.

It says the numbers that Windows would: 0 for done, 5010 for what is there already, 1168 for what is
not there.
"""

import socket
import subprocess
import sys

DONE, NOT_FOUND, THERE_ALREADY = 0, 1168, 5010
FOR_GOOD = 0xFFFFFFFF


def done(what, index, interface, seconds):
    words = ["ip", "addr", what, interface, "dev", socket.if_indextoname(index)]
    if what == "add" and seconds != FOR_GOOD:
        words += ["valid_lft", str(seconds), "preferred_lft", str(seconds)]
    if subprocess.run(words, capture_output=True).returncode == 0:
        return DONE
    return THERE_ALREADY if what == "add" else NOT_FOUND


def main():
    with socket.create_server(("127.0.0.1", int(sys.argv[1]))) as door:
        print("ready", flush=True)
        while True:
            line = door.accept()[0]
            with line, line.makefile("rw") as file:
                what, index, interface, seconds = file.readline().split()
                file.write(f"{done(what, int(index), interface, int(seconds))}\n")
                file.flush()


if __name__ == "__main__":
    main()
