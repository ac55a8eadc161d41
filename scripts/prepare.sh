#!/bin/sh
# Make .venv with the pinned packages, and install the system libraries that Qt and a virtual screen need.
# Safe to run again: it does only what is missing.
set -eu
cd "$(dirname "$0")/.."

packages="xvfb xauth libgl1 libegl1 libgl1-mesa-dri libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0
libxcb-xinerama0 libxcb-xkb1 libxrender1 libgomp1 python3-venv"
if command -v dpkg-query >/dev/null; then
    missing=""
    for package in $packages; do
        [ "$package" = python3-venv ] && python3 -c 'import ensurepip, venv' 2>/dev/null && continue
        dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing="$missing $package"
    done
    if [ -n "$missing" ]; then
        if [ "$(id -u)" = 0 ]; then
            echo "Installing system libraries:$missing"
            apt-get update -qq
            DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
        else
            echo "Some system libraries are missing. Run this one line, then try again:"
            echo "  sudo apt-get update && sudo apt-get install -y --no-install-recommends$missing"
            exit 1
        fi
    fi
fi

stamp=.venv/.prepared
wanted=$(cat requirements.lock pyproject.toml | cksum)
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
    python=python3
    command -v python3.11 >/dev/null && python=python3.11
    [ -x .venv/bin/python ] || "$python" -m venv .venv
    echo "Installing pinned packages into .venv"
    .venv/bin/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
    echo "$wanted" > "$stamp"
fi
