"""Take the pictures in this folder: commands on the practice plant, in a terminal, as PNG.

Each scene runs in a practice plant of its own. ``python take.py [NAME]…`` takes only those named.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, replace
from pathlib import Path

HERE = Path(__file__).parent
SIZE = "1280x800"
PAPER = "#101418"
PROMPT = "tern-point$ "
PACKING = str(HERE.parent / "plants" / "packing-line.toml")
"""25 devices in two subnets, and what goes wrong in them."""

BARE = str(HERE.parent / "plants" / "bare-cable.toml")
"""Nine devices as they come out of the box, and no site."""

BOILER = str(HERE.parent / "plants" / "boiler-house.toml")
"""Devices with something inside."""

NIGHT = str(HERE.parent / "plants" / "night-shift.toml")
"""Devices that die, and new ones for them in the store."""

ASKS = {
    "portcall swap ": ("Enter makes it", ""),
    "portcall plan take": ("Enter takes", ""),
    "portcall visit": (
        *("which one?", "5"),
        *(") #", "portcall reach --count 2"),
        *(") #", "portcall move --to 10.61.20.51/24 --wait 30"),
        *(") #", "portcall reach --count 1"),
        *(") #", "exit"),
    ),
}
"""Lines that put questions, how each begins, and what is typed then."""


@dataclass(frozen=True)
class Scene:
    """Lines run unseen first, then the lines that are shown; cut off after ``seconds``."""

    shown: tuple[str, ...]
    before: tuple[str, ...] = ()
    seconds: float = 60
    points: float = 10
    grid: str = "156x46"
    scenario: str = ""
    """A plant of its own; without, the shipped one."""


MATCHED = ("portcall match dryer-plc --no-probe",)
SERVED = (*MATCHED, "portcall assign --for 8")

IN_THE_WAY = (
    "ip addr add 198.51.100.9/25 dev usb0",
    "sysctl -w net.ipv4.conf.usb0.rp_filter=1",
    "ip tuntap add mode tun name tun0 && ip link set tun0 up",
    "ip route add 10.61.20.0/24 dev tun0",
    "export http_proxy=http://proxy.example:3128",
)

WIDE = "156x58"

ON_THE_PACKING_LINE = {
    "find": Scene(("portcall find",), seconds=40),
    "assign": Scene(("portcall assign --for 8",), seconds=40),
    "verify": Scene(("portcall verify",), seconds=40),
}  # fmt: skip
ROOT = HERE.parents[1]
WINDOWS = f'eval "$({sys.executable} {ROOT}/tests/commands/laptop.py {ROOT}/.windows)"'
"""From here on, what is typed is typed into the Python for Windows that make windows makes."""

TYPED = f"{sys.executable} {HERE / 'typed.py'}"
"""Runs a line, and presses Enter when it asks."""

LIST = r"""printf '%s\n' 'IP list conveyor line;;;;' ';;;;' \
 'Bezeichnung;Anlage;IP-Adresse;MAC;Gatway' 'Fan 1;Dryer;10,61,20,21;02-77-B1-4C-09-21;' \
 'Fan 2;Dryer;10.61.20.22;2,77E+11;' 'Belt 1;Conveyor;10.61.20. 23;027716113A4;' \
 'Belt 2;Conveyor;10.61.20.22;;' 'Scale;Conveyor;10.61.20.40/24;02-C0-E7-05-2B-90;10.61.20.1' \
 > list.csv"""
MENDED = (
    "sed -i -e s/10,61,20,21/10.61.20.21/ -e s/2,77E+11/02-77-B1-4C-0E-53/ -e 's/20[.] 23/20.23/'"
    " -e s/027716113A4/0277B16113A4/ -e '/Belt 2/s/22/24/' list.csv"
)

SCENES = {
    "adapters": Scene(("portcall adapters",), IN_THE_WAY),
    "match": Scene(
        (
            "portcall match dryer-plc --dry-run",
            "portcall match dryer-plc",
            "portcall match 203.0.113.40 --no-probe",
            "portcall restore --show",
            "portcall restore",
        ),
        ("ip addr add 198.51.100.130/26 dev usb0",),
    ),
    "visit": Scene(
        ("portcall visit",),
        (
            "export SHELL=/bin/sh",
            "(until ip addr show usb0 | grep -q 10.61.20; do sleep 0.2; done; sleep 2; curl -s"
            " -o /dev/null -d 'address=10.61.20.51&mask=255.255.255.0' http://192.168.1.1/) &",
        ),
        seconds=110,
        grid=WIDE,
        points=8,
        scenario=BARE,
    ),
    "windows": Scene(
        (
            "portcall match dryer-plc",
            "portcall assign fan-drive-1 belt-drive --keep --until-done",
            "portcall move io-island-1",
            "portcall verify dryer-plc fan-drive-1 belt-drive io-island-1",
            "portcall why weigh-gateway",
            "portcall report record.xlsx",
            "portcall restore",
        ),
        (WINDOWS,),
        seconds=200,
        grid=WIDE,
        points=8,
    ),
    "inside": Scene(
        (
            "portcall find boiler-plc --inside --beyond 3=10.61.42.5",
            "portcall find flow-gateway --unit 1-42 --unpaced | tail -8",
            "portcall why flow-gateway:unit-17 | tail -4",
            "portcall plan add boiler-plc.port-4 10.61.41.99/24",
        ),
        ("portcall plant fault flow-gateway unit-silent 17",),
        seconds=140,
        grid=WIDE,
        points=8,
        scenario=BOILER,
    ),
    "keep": Scene(
        (
            "portcall keep fan-drive-1 10.61.20.15 10.61.20.60",
            "portcall verify --power-cycle fan-drive-1",
            "portcall verify --power-cycle belt-drive",
        ),
        (
            *SERVED,
            "(sleep 19; portcall plant power-cycle fan-drive-1; sleep 9;"
            " portcall plant power-cycle belt-drive) > /dev/null &",
        ),
    ),
    "move": Scene(
        ("portcall move io-island-1", "portcall move weigh-gateway"),
        (
            *MATCHED,
            "(until ip addr show usb0 | grep -q 203.0.113; do sleep 0.2; done; sleep 5; curl -s"
            " -o /dev/null -d 'address=10.61.20.40&mask=255.255.255.0' http://203.0.113.40/) &",
        ),
    ),
    "plan-take": Scene(
        ("portcall plan take", "portcall plan check"),
        ("rm plan.csv",),
        scenario=PACKING,
        grid=WIDE,
        points=8,
    ),
    "plan-import": Scene(
        (
            "portcall plan import list.csv --dry-run",
            MENDED,
            "portcall plan import list.csv --yes",
        ),
        ("rm plan.csv", LIST),
        seconds=20,
    ),
    "swap": Scene(
        (
            "portcall swap fan-drive",
            "portcall plant unplug belt-drive; portcall plant plug new-belt-drive --wire plant",
            "portcall swap belt-drive",
        ),
        ("portcall plant unplug fan-drive", "portcall plant plug new-fan-drive --wire plant"),
        scenario=NIGHT,
        grid=WIDE,
        points=8,
    ),
    "record": Scene(
        (
            "portcall compare",
            "portcall status",
            "portcall logbook show --device belt-drive",
        ),
        (
            *MATCHED,
            "portcall find",
            "sed -i s/4C-0E-53/4C-0E-58/ plan.csv",
            "portcall assign --keep --for 14",
            "portcall plant unplug old-feeder",
            "portcall move io-island-1",
            "portcall verify",
        ),
        seconds=90,
        grid=WIDE,
        points=8,
    ),
    "reach-watch": Scene(
        ("portcall reach dryer-plc fan-drive-1 10.61.20.15 --watch --interval 0.5",),
        (
            *SERVED,
            "portcall plant fault fan-drive-1 lossy 20%",
            "(sleep 30; portcall plant unplug dryer-plc; sleep 9; portcall plant plug dryer-plc;"
            " sleep 12; portcall plant unplug 10.61.20.15 || portcall plant unplug old-feeder) &",
        ),
        seconds=75,
    ),
    "why-broken": Scene(
        (
            "portcall why dryer-plc cip",
            "portcall plant mend; portcall plant fault usb0 route-elsewhere > /dev/null",
            "portcall why dryer-plc",
            "portcall plant mend; portcall plant fault dryer-plc mask 255.255.255.240 > /dev/null",
            "portcall why dryer-plc",
        ),
        (*MATCHED, "portcall plant fault dryer-plc moved"),
    ),
}


for name, scene in ON_THE_PACKING_LINE.items():
    SCENES[name] = replace(scene, grid=WIDE, points=8, scenario=PACKING)


PLOT, SKETCH, REPORT = "reach-plot", "sketch", "report"
PLOTTED = f"""
cd $PRACTICE_SITE
portcall match dryer-plc --no-probe
portcall plant fault old-feeder lossy 6%
portcall plant fault hood-vent slow 4
(sleep 4; while :; do portcall plant unplug dryer-plc; sleep 0.7; portcall plant plug dryer-plc
 sleep 8.6; done) > /dev/null 2>&1 &
portcall reach dryer-plc 10.61.20.15 10.61.20.60 --interval 0.25 --wait 0.25 --for 110 --log n.csv
portcall reach --from n.csv --plot {HERE / PLOT}.png || test $? = 1
"""
"""A plant in which one device goes again and again, one loses now and then, and one is slow.

More is lost than is accepted: the answer is no.
"""


def _converter() -> str:
    """ImageMagick's own program, also where another stands in for ``convert``."""
    return "convert-im6.q16" if Path("/usr/bin/convert-im6.q16").exists() else "convert"


DONE = """
cd $PRACTICE_SITE
portcall match dryer-plc --no-probe
portcall plan take --all
sed -i s/4C-0E-53/4C-0E-58/ plan.csv
portcall assign --keep --for 14
portcall move io-island-1
portcall plant unplug hood-vent
portcall find
"""
DRAWN = f"{DONE}portcall sketch {HERE / SKETCH}.png --overwrite"
WRITTEN = f"""
cd $PRACTICE_SITE
{_converter()} -size 900x600 gradient:'#9aa7a0'-'#3d4a45' -fill '#20506f' -draw 'roundrectangle \
 120,140 420,460 12,12' -fill '#d8a13a' -draw 'circle 620,300 700,300' antenna.jpg
portcall note yard-radio "network name DRYER-2, 5 GHz, power 12" --file antenna.jpg
portcall note bark-moisture "wires were exchanged at terminal 4, put right"
portcall plant fault flow-gateway unit-silent 2
portcall find 10.61.40.0/24
portcall verify
portcall report r.pdf
pdftoppm -r 50 -png r.pdf page
{_converter()} page-1.png page-2.png page-3.png +append {HERE / REPORT}.png
"""
"""The record of a boiler house, with the drawing, a note and its picture."""

BY_HAND = {PLOT: (PLOTTED, ""), SKETCH: (DRAWN, ""), REPORT: (WRITTEN, BOILER)}
"""Pictures that commands make themselves, each in its plant."""


def script(scene: Scene) -> str:
    """The scene as a shell script for the plant's workstation."""
    lines = ["cd $PRACTICE_SITE"]
    lines += ["exec 3>&1 >/dev/null 2>&1", *scene.before, "exec >&3 2>&3"]
    for line in scene.shown:
        asks = next((pairs for start, pairs in ASKS.items() if line.startswith(start)), None)
        asks = None if asks and " --for " in line else asks
        typed = f"{TYPED} {shlex.join((line, *asks))}" if asks else line
        quoted = line.replace("'", "'\\''")
        lines += [f"echo '{PROMPT}{quoted}'", typed, "echo"]
    return "\n".join(lines)


def save(shot: str, picture: Path) -> None:
    """Save what a screen shows, without the empty lines below it."""
    filled = [_converter(), shot, "-fill", PAPER, "-opaque", "black"]
    told = [*filled, "-fuzz", "5%", "-format", "%@", "info:"]
    box = subprocess.run(told, check=True, capture_output=True, text=True).stdout
    _, height, _, top = map(int, re.split(r"[x+]", box))
    crop = ["-crop", f"x{height + 2 * top}+0+0", "+repage"]
    subprocess.run([*filled, *crop, str(picture)], check=True)


def take(name: str, command: list[str], scene: Scene) -> None:
    """Run a command in a terminal that fills a virtual screen, and save what it shows."""
    with tempfile.TemporaryDirectory() as folder:
        shot, done = Path(folder, "shot.xwd"), Path(folder, "done")
        read_end, write_end = os.pipe()
        screen = subprocess.Popen(
            [
                "Xvfb",
                "-displayfd",
                str(write_end),
                "-screen",
                "0",
                f"{SIZE}x24",
                "-nolisten",
                "tcp",
            ],
            pass_fds=(write_end,),
            stderr=subprocess.DEVNULL,
        )
        os.close(write_end)
        with open(read_end) as pipe:
            display = f":{pipe.readline().strip()}"
        words = ["xterm", "-geometry", f"{scene.grid}+0+0", "-fa", "DejaVu Sans Mono"]
        words += ["-fs", str(scene.points), "-b", "12", "+sb"]
        words += ["-bg", PAPER, "-fg", "#d8dee6", "-e", "sh", "-c"]
        words += ['done=$1; shift; "$@"; touch "$done"; sleep 600', "scene", str(done), *command]
        terminal = subprocess.Popen(words, env={**os.environ, "DISPLAY": display})
        try:
            until = time.monotonic() + scene.seconds
            while not done.exists() and time.monotonic() < until:
                time.sleep(0.1)
            time.sleep(0.5)
            dump = ["xwd", "-root", "-silent", "-display", display, "-out", str(shot)]
            subprocess.run(dump, check=True)
            save(f"xwd:{shot}", HERE / f"{name}.png")
        finally:
            terminal.kill()
            screen.kill()
            terminal.wait()
            screen.wait()
    print(f"{name}.png")


def main() -> None:
    """Take the pictures named on the command line, or all."""
    portcall = str(Path(sys.executable).with_name("portcall"))
    wanted = sys.argv[1:] or [*SCENES, *BY_HAND]
    for name in wanted:
        if name in BY_HAND:
            lines, scenario = BY_HAND[name]
            plant = ["--scenario", scenario] if scenario else []
            command = [portcall, "plant", "run", *plant, "--", "sh", "-c", lines]
            subprocess.run(command, check=True)
            print(f"{name}.png")
        else:
            scene = SCENES[name]
            plant = ["--scenario", scene.scenario] if scene.scenario else []
            command = [portcall, "plant", "run", *plant, "--", "sh", "-c", script(scene)]
            take(name, command, scene)


if __name__ == "__main__":
    main()
