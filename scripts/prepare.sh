#!/bin/sh
# Make .venv with the pinned packages, and install the system libraries that Qt and a virtual screen need.
# Safe to run again: it does only what is missing.
set -eu
cd "$(dirname "$0")/.."

# The distribution's own Python comes first: it is built with profile-guided optimisation, and one compiled by hand
# mostly is not, which makes the program's exports and drags a quarter slower (docs/performance.md).
choose_python() {
    for python in /usr/bin/python3.11 python3.11 python3; do
        if "$python" -c 'import ensurepip, venv' 2>/dev/null; then return; fi
    done
}

choose_python
packages="xvfb xauth libgl1 libegl1 libgl1-mesa-dri libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0
libxcb-xinerama0 libxcb-xkb1 libxrender1 libgomp1 python3-venv"
if command -v dpkg-query >/dev/null; then
    missing=""
    for package in $packages; do
        [ "$package" = python3-venv ] && "$python" -c 'import ensurepip, venv' 2>/dev/null && continue
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

choose_python
stamp=.venv/.prepared
version=$("$python" -c 'import sys; print(sys.version)')
wanted=$({ cat requirements.lock pyproject.toml; echo "$version"; } | cksum)
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
    # A .venv of another Python is made anew; one of this Python is kept and brought up to date.
    [ "$(.venv/bin/python -c 'import sys; print(sys.version)' 2>/dev/null)" = "$version" ] ||
        "$python" -m venv --clear .venv
    echo "Installing pinned packages into .venv"
    .venv/bin/python -m pip install -qq --disable-pip-version-check -r requirements.lock
    .venv/bin/python -m pip install -qq --disable-pip-version-check --no-deps --no-build-isolation --editable .
    echo "$wanted" > "$stamp"
fi
