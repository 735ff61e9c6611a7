"""How portcall.pyz begins: unpack once, into a folder of this person's, and go on from there.

A program inside an archive starts several times slower, and its files could not be read by the
programs that it starts. The tool is an archive inside this one, so that what Python reads at each
start is short; nothing is imported here that is not needed each time. With --portable as the first
word, or a file portcall.portable beside the archive, what is unpacked and what the tool remembers
stay beside it.
"""

import os
import stat
import sys

PORTABLE = "portcall.portable"
BESIDE = "portcall-files"
STATE = "PORTCALL_STATE"
ONE_FILE = "PORTCALL_FILE"

LAUNCHER = """#!{python}
import os, sys
here = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
sys.path.insert(0, here)
os.environ["PYTHONPATH"] = here
os.environ["{one_file}"] = {file!r}
{state}sys.argv[0] = os.path.abspath(__file__)
from portcall.cli.main import main
main()
"""


def say(text):
    """Tell the person, beside what the command itself says."""
    sys.stderr.write(f"portcall: {text}\n")


def is_ours(folder):
    """Whether nobody but this person, or who called sudo, can have put something into a folder."""
    told = os.stat(folder)
    caller = os.environ.get("SUDO_UID", "")
    mine = {0, os.geteuid(), int(caller) if caller.isdecimal() else 0}
    return told.st_uid in mine and not told.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


def unpack(here, folder, state):
    """Unpack everything beside its place, and put it there in one step."""
    import zipfile

    new = f"{folder}.{os.getpid()}"
    os.makedirs(new, mode=0o700)
    with zipfile.ZipFile(here) as outer, outer.open("tool.zip") as inner:
        zipfile.ZipFile(inner).extractall(new)
    os.mkdir(os.path.join(new, "bin"))
    launcher = os.path.join(new, "bin", "portcall")
    remember = f'os.environ.setdefault("{STATE}", {state!r})\n' if state else ""
    with open(launcher, "w", encoding="utf-8") as out:
        out.write(
            LAUNCHER.format(python=sys.executable, one_file=ONE_FILE, file=here, state=remember)
        )
    os.chmod(launcher, 0o755)
    remove_left_by_killed_ones(folder)
    try:
        os.rename(new, folder)
    except OSError:
        # Another one was quicker; what it put there is the same.
        import shutil

        shutil.rmtree(new)


def remove_left_by_killed_ones(folder):
    """Remove what others began to unpack for the same place, and do not go on with."""
    import shutil

    place, name = os.path.split(folder)
    for each in os.listdir(place):
        begun, _, pid = each.rpartition(".")
        if begun == name and pid.isdecimal() and not os.path.exists(f"/proc/{pid}"):
            shutil.rmtree(os.path.join(place, each), ignore_errors=True)


def for_this_time(here, state):
    """Unpack into a folder that goes when the program ends."""
    import atexit
    import shutil
    import tempfile

    folder = tempfile.mkdtemp(prefix="portcall-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    unpack(here, os.path.join(folder, "tool"), state)
    return os.path.join(folder, "tool")


def main():
    """Find or make the folder, and run the tool from it."""
    if sys.version_info < (3, 11):  # noqa: UP036
        say(f"needs Python 3.11 or newer, and this is {sys.version.split()[0]}")
        return 3
    here = os.path.dirname(os.path.abspath(__file__))
    beside = os.path.dirname(here)
    portable = os.path.exists(os.path.join(beside, PORTABLE))
    if sys.argv[1:2] == ["--portable"]:
        portable = True
        del sys.argv[1]
    if portable:
        place = os.path.join(beside, BESIDE)
    else:
        cache = os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache")
        place = os.path.join(cache, "portcall")
    state = os.path.join(place, "state") if portable else ""
    folder = os.path.join(place, __loader__.get_data("DIGEST").decode()[:16])
    try:
        if not os.path.isdir(folder):
            os.makedirs(place, mode=0o700, exist_ok=True)
            unpack(here, folder, state)
            say(f"unpacked once into {folder}, which may be removed")
        if not portable and not is_ours(folder):
            raise OSError("others can write there")
    except OSError as error:
        say(
            f"cannot be unpacked for good into {place}: {error}; it is for this time only, and slow"
        )
        try:
            folder = for_this_time(here, state)
        except OSError as trouble:
            say(f"cannot be unpacked at all: {trouble}")
            return 3
    sys.path[0] = folder
    os.environ["PYTHONPATH"] = folder
    os.environ[ONE_FILE] = here
    if state:
        os.environ.setdefault(STATE, state)
    sys.argv[0] = os.path.join(folder, "bin", "portcall")
    from portcall.cli.main import main as run

    return run()


sys.exit(main())
