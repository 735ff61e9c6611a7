"""Why a device is not reachable: the ladder from the cable to the program, and who tells what."""
