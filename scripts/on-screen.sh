#!/bin/sh
# Run a command on the screen there is, or on a virtual one of 1280 x 800.
if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
    exec "$@"
fi
echo "There is no screen here, so this runs on a virtual one (1280 x 800)." >&2
exec xvfb-run -a -s "-screen 0 1280x800x24" "$@"
