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

QUITE_SURE = 3600
"""Seconds after which nobody unpacks any more."""

PORTABLE = "portcall.portable"
BESIDE = "portcall-files"
STATE = "PORTCALL_STATE"
ONE_FILE = "PORTCALL_FILE"

ON_WINDOWS = os.name == "nt"
"""There a person's folders are closed to others by their access lists, which stat does not tell."""

FOR_CMD = '@"{python}" "%~dp0portcall" %*\r\n'
"""What starts the launcher on Windows, where a file's first line does not."""

STARTERS = ("bin/portcall", "bin/portcall.cmd")
"""What is made here, and is not in the archive."""

STARTERS = ("bin/portcall", "bin/portcall.cmd")
"""What is made here, and is not in the archive."""

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


def whose():
    """Who may have written what is run here: root, this person, and who called sudo."""
    if ON_WINDOWS:
        return {0}
    caller = os.environ.get("SUDO_UID", "")
    return {0, os.geteuid(), int(caller) if caller.isdecimal() else 0}


def is_ours(told, people):
    """Whether nobody but these can have written a file or a folder, by what stat tells of it.

    A group of the same number as a user is that user's own, by custom.
    """
    if ON_WINDOWS:
        return True
    by_group = told.st_mode & stat.S_IWGRP and told.st_gid not in people
    return told.st_uid in people and not by_group and not told.st_mode & stat.S_IWOTH


def check_way(path, people):
    """Raise OSError when others can put something else in the place of a file or folder.

    In a sticky folder, such as the one for temporary files, nobody can replace what is another's.
    """
    way = os.path.dirname(os.path.realpath(path))
    while True:
        told = os.stat(way)
        sticky = told.st_mode & stat.S_ISVTX
        if not (is_ours(told, people) or (sticky and told.st_uid in people)):
            raise OSError(f"others can write in {way}")
        if way == os.path.dirname(way):
            return
        way = os.path.dirname(way)


def check_unpacked(folder, people):
    """Raise OSError unless a folder has what this archive has, and nobody else can have written it.

    Compiled modules are Python's own, made here, and belong to whoever ran this.
    """
    check_way(folder, people)
    if os.path.islink(folder) or not is_ours(os.lstat(folder), people):
        raise OSError("others can write there")
    listed = {}
    for line in __loader__.get_data("LIST").decode().splitlines():
        size, _, name = line.partition(" ")
        listed[name] = int(size)
    missing = len(listed)
    waiting = [("", folder)]
    while waiting:
        prefix, place = waiting.pop()
        with os.scandir(place) as entries:
            for entry in entries:
                told = entry.stat(follow_symlinks=False)
                name = prefix + entry.name
                if not is_ours(told, people) or stat.S_ISLNK(told.st_mode):
                    raise OSError(f"others can write there: {name}")
                if stat.S_ISDIR(told.st_mode):
                    waiting.append((f"{name}/", entry.path))
                elif name in listed:
                    missing -= 1
                    if listed[name] != told.st_size:
                        raise OSError(f"it was changed: {name}")
                elif name not in STARTERS and "/__pycache__/" not in f"/{name}":
                    raise OSError(f"it is not of this program: {name}")
    if missing:
        raise OSError("something is missing")


def unpack(here, folder, state):
    """Unpack everything beside its place, and put it there in one step."""
    import zipfile

    new = f"{folder}.{os.getpid()}"
    # Whatever a person's umask lets a group do, here it may not write.
    before = os.umask(0o022)
    try:
        os.makedirs(new, mode=0o700)
        with zipfile.ZipFile(here) as outer, outer.open("tool.zip") as inner:
            zipfile.ZipFile(inner).extractall(new)
        for place, _, _ in list(os.walk(new)):
            os.mkdir(os.path.join(place, "__pycache__"))
        os.mkdir(os.path.join(new, "bin"))
    finally:
        os.umask(before)
    launcher = os.path.join(new, "bin", "portcall")
    remember = f'os.environ.setdefault("{STATE}", {state!r})\n' if state else ""
    with open(launcher, "w", encoding="utf-8") as out:
        out.write(
            LAUNCHER.format(python=sys.executable, one_file=ONE_FILE, file=here, state=remember)
        )
    os.chmod(launcher, 0o755)
    if ON_WINDOWS:
        with open(f"{launcher}.cmd", "w", encoding="utf-8", newline="") as out:
            out.write(FOR_CMD.format(python=sys.executable))
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
        if begun == name and pid.isdecimal() and is_left(os.path.join(place, each), pid):
            shutil.rmtree(os.path.join(place, each), ignore_errors=True)


def is_left(folder, pid):
    """Whether the process that began to unpack here has ended; on Windows, whether it is slow."""
    if ON_WINDOWS:
        import time

        return time.time() - os.stat(folder).st_mtime > QUITE_SURE
    return not os.path.exists(f"/proc/{pid}")


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
    elif ON_WINDOWS:
        own = os.environ.get("LOCALAPPDATA") or os.path.expanduser("~\\AppData\\Local")
        place = os.path.join(own, "portcall", "program")
    else:
        cache = os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache")
        place = os.path.join(cache, "portcall")
    state = os.path.join(place, "state") if portable else ""
    folder = os.path.join(place, __loader__.get_data("DIGEST").decode()[:16])
    people = whose()
    if not ON_WINDOWS and os.geteuid() == 0:
        try:
            if not is_ours(os.stat(here), people):
                raise OSError("others can write it")
            check_way(here, people)
        except OSError as error:
            say(f"{here}: {error}; root runs it from a folder that nobody else can change only")
            return 3
    try:
        if not os.path.isdir(folder):
            before = os.umask(0o022)
            try:
                os.makedirs(place, mode=0o700, exist_ok=True)
            finally:
                os.umask(before)
            check_way(folder, people)
            unpack(here, folder, state)
            say(f"unpacked once into {folder}, which may be removed")
        check_unpacked(folder, people)
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
