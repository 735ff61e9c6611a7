"""A million damaged messages through every parser: only ``Malformed`` comes of it, and no growth.

``python fuzz/parsers.py [HOW MANY] [SEED]``. Stated limit for growth: 8 MB over the second half.
"""

from __future__ import annotations

import random
import resource
import signal
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests" / "core"))

from parsers import PARSERS, SAMPLES

from portcall.core.find.overhear import Overhear
from portcall.core.talk.conversation import Frame
from portcall.core.wire.octets import Malformed

MILLION = 1_000_000
MOST_GROWTH_MB = 8
LONGEST_SECONDS = 2.0
"""For one message: a parser that takes longer is caught in a loop."""

TELLING = (b"\0", b"\x7f", b"\x80", b"\xff", b"\xff\xff", b"\0\0", b"\x7f\xff\xff\xff")


def damaged(sample: bytes, chance: random.Random) -> bytes:
    """Octets changed, cut off, doubled, or put in, a few times over."""
    data = bytearray(sample or chance.randbytes(chance.randrange(1, 200)))
    for _ in range(chance.randrange(1, 6)):
        place = chance.randrange(len(data) + 1)
        match chance.randrange(5):
            case 0 if place < len(data):
                data[place] = chance.randrange(256)
            case 1:
                data[place : place + 4] = chance.choice(TELLING)
            case 2:
                del data[place:]
            case 3:
                data[place:place] = data[place : place + chance.randrange(1, 64)]
            case _:
                data[place:place] = chance.randbytes(chance.randrange(1, 8))
        if not data:
            break
    return bytes(data[:2048])


def megabytes() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


class TooLong(BaseException):
    """Not an Exception: no parser may take it for one of its library's."""


def too_long(*_: object) -> None:
    raise TooLong(f"a parser took longer than {LONGEST_SECONDS} s")


def main() -> int:
    signal.signal(signal.SIGALRM, too_long)
    total = int(sys.argv[1]) if len(sys.argv) > 1 else MILLION
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 20
    chance = random.Random(seed)
    names = sorted(PARSERS)
    listening = Overhear(None, None)
    fine = malformed = 0
    half = 0.0
    began = time.monotonic()
    for number in range(total):
        if number == total // 2:
            half = megabytes()
        name = names[number % len(names)]
        data = damaged(SAMPLES.get(name, b""), chance)
        signal.setitimer(signal.ITIMER_REAL, LONGEST_SECONDS)
        try:
            PARSERS[name](data)
            fine += 1
        except Malformed:
            malformed += 1
        except BaseException:
            print(f"{name}: {data.hex()}")
            raise
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
        # The ears get all of it, too: they choose the parser by what a frame says of itself.
        signal.setitimer(signal.ITIMER_REAL, LONGEST_SECONDS)
        for _ in listening.heard(Frame(data), number * 1e-3):
            pass
        signal.setitimer(signal.ITIMER_REAL, 0)
    grown = megabytes() - half
    print(
        f"{total:,} damaged messages through {len(names)} parsers in "
        f"{time.monotonic() - began:.0f} s, seed {seed}: {malformed:,} malformed, {fine:,} fine, "
        f"nothing else; memory grew by {grown:.1f} MB in the second half "
        f"(stated: at most {MOST_GROWTH_MB})"
    )
    return 0 if grown <= MOST_GROWTH_MB else 1


if __name__ == "__main__":
    sys.exit(main())
