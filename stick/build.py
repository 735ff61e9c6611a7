"""Make dist/portcall.pyz: the whole tool in one file, for a computer without network or pip.

It has the tool and the libraries that it always needs, all in pure Python, in the versions that are
installed here. What has machine code (matplotlib, psycopg) is used where the computer has it.
"""

from __future__ import annotations

import hashlib
import io
import subprocess
import sys
import tempfile
import tomllib
import zipfile
from collections.abc import Iterable
from importlib.metadata import requires, version
from pathlib import Path

from packaging.requirements import Requirement

HERE = Path(__file__).parent
ROOT = HERE.parent
LEFT_OUT = {"greenlet"}
"""Machine code that a library names, and needs only for what is not done here."""

LONG_AGO = (1980, 1, 1, 0, 0, 0)


SYSTEMS = (
    {"platform_system": "Linux", "sys_platform": "linux", "os_name": "posix"},
    {"platform_system": "Windows", "sys_platform": "win32", "os_name": "nt"},
)
"""Where the file is to run, in the words of what a library needs only there."""


def needed() -> dict[str, str]:
    """The libraries that the tool always needs there, and theirs, each with its version here."""
    known: dict[str, str] = {}
    lines = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]
    for system in SYSTEMS:
        known |= _on(system, lines, {})
    return known


def _on(system: dict[str, str], lines: Iterable[str], known: dict[str, str]) -> dict[str, str]:
    for line in lines:
        wanted = Requirement(line)
        marker = wanted.marker
        if wanted.name in known or wanted.name in LEFT_OUT:
            continue
        if marker is None or marker.evaluate({"extra": "", **system}):
            known[wanted.name] = version(wanted.name)
            _on(system, requires(wanted.name) or (), known)
    return known


def fill(folder: Path) -> None:
    """Put the tool and its libraries into a folder."""
    pip = [sys.executable, "-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
    pip += ["--no-deps", "--no-compile", "--target", str(folder)]
    pure = ["--only-binary=:all:", "--platform", "any", "--implementation", "py", "--abi", "none"]
    wanted = [f"{name}=={number}" for name, number in sorted(needed().items())]
    subprocess.run([*pip, *pure, *wanted], check=True)
    subprocess.run([*pip, str(ROOT)], check=True)


def packed(folder: Path, target: Path) -> None:
    """Write the file; the same contents give the same octets."""
    files = sorted(
        path
        for path in folder.rglob("*")
        if path.is_file()
        and "__pycache__" not in path.parts
        and path.relative_to(folder).parts[0] not in ("bin", "share")
    )
    machine = [path.name for path in files if path.suffix in (".so", ".pyd", ".dylib")]
    if machine:
        sys.exit(f"machine code does not belong into one file for all: {', '.join(machine)}")
    told = [f"{path.stat().st_size} {path.relative_to(folder).as_posix()}\n" for path in files]
    tool = io.BytesIO()
    with zipfile.ZipFile(tool, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in files:
            _put(archive, path.relative_to(folder).as_posix(), path.read_bytes())
    target.parent.mkdir(exist_ok=True)
    with open(target, "wb") as out:
        out.write(b"#!/usr/bin/env python3\n")
        with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
            main = (HERE / "main.py").read_bytes()
            _put(archive, "__main__.py", main)
            _put(archive, "DIGEST", hashlib.sha256(main + tool.getvalue()).hexdigest().encode())
            _put(archive, "LIST", "".join(told).encode())
            _put(archive, "tool.zip", tool.getvalue())
    target.chmod(0o755)
    # Windows starts no file by its first line.
    target.with_suffix(".cmd").write_bytes((HERE / "portcall.cmd").read_bytes())


def _put(archive: zipfile.ZipFile, name: str, data: bytes) -> None:
    archive.writestr(zipfile.ZipInfo(name, LONG_AGO), data, archive.compression)


def main() -> None:
    """Make it, and say how large it is."""
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "dist" / "portcall.pyz"
    with tempfile.TemporaryDirectory() as folder:
        fill(Path(folder))
        packed(Path(folder), target)
    print(f"{target}: {target.stat().st_size / 1e6:.1f} MB, {len(needed())} libraries")


if __name__ == "__main__":
    main()
