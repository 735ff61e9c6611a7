#!/bin/sh
# What take.py needs: a screen that nobody looks at, a terminal on it, and a way to save it.
set -eu
for tool in Xvfb xterm xwd convert pdftoppm; do
    command -v "$tool" >/dev/null 2>&1 && continue
    if [ "$(id -u)" -ne 0 ] || ! command -v apt-get >/dev/null 2>&1; then
        echo "screenshots need $tool: apt-get install xvfb xterm x11-apps imagemagick fonts-dejavu-core poppler-utils" >&2
        exit 1
    fi
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -q >/dev/null
    apt-get install -y -q xvfb xterm x11-apps imagemagick fonts-dejavu-core poppler-utils >/dev/null
    break
done
