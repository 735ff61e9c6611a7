"""A PostgreSQL of its own, for tests and benchmarks of the logbook that a team shares."""

import os
import subprocess
from glob import glob
from pathlib import Path
from tempfile import mkdtemp

PROGRAMS = sorted(glob("/usr/lib/postgresql/*/bin"))
AS_NOBODY = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"]


class Server:
    """PostgreSQL, which root may not run."""

    def __init__(self):
        # A socket's path has 107 octets at most.
        self.folder = Path(mkdtemp(prefix="pc-pg-", dir="/tmp"))
        self.data = self.folder / "data"
        self.prefix = []
        if os.getuid() == 0:
            os.chown(self.folder, 65534, 65534)
            self.prefix = AS_NOBODY
        self.run("initdb", "-D", self.data, "-U", "team", "-A", "trust", "--no-sync")
        self.start()
        self.run("createdb", "-h", self.folder, "-U", "team", "portcall")

    @property
    def url(self):
        return f"postgresql://team@/portcall?host={self.folder}"

    def run(self, program, *words):
        command = [*self.prefix, f"{PROGRAMS[-1]}/{program}", *map(str, words)]
        subprocess.run(command, check=True, capture_output=True, cwd=self.folder, timeout=60)

    def start(self):
        options = (
            f"-c listen_addresses='' -c unix_socket_directories={self.folder} "
            "-c dynamic_shared_memory_type=mmap"
        )
        log = self.folder / "log"
        self.run("pg_ctl", "-D", self.data, "-l", log, "-w", "-o", options, "start")

    def stop(self, how="immediate"):
        self.run("pg_ctl", "-D", self.data, "-m", how, "-w", "stop")
