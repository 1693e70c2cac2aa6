#!/usr/bin/env bash
# Installs what is missing, builds, and opens the window with the landing shot. Without a display the same window runs
# under Xvfb and a picture of it is saved; --once ends after the picture.
set -euo pipefail
cd "$(dirname "$0")"
source packaging/prepare.sh
once=
[ "${1:-}" = --once ] && once=1
install_missing run
configure_and_build run --target pinion
# The command line comes while the window or its picture is looked at already.
if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ] && [ -z "$once" ]; then
    build/bin/pinion demo/plates/landing.mp4 &
    configure_and_build run --target pinion-cli
    wait
    exit
fi
picture=build/demo.png
xvfb-run -a -s "-screen 0 1280x800x24" build/bin/pinion --picture "$picture" demo/plates/landing.mp4
echo "A picture of the window: $PWD/$picture"
configure_and_build run --target pinion-cli
[ -n "$once" ] && exit 0
echo "There is no display. Set DISPLAY and run ./demo.sh again to work in the window; it runs under Xvfb until Ctrl-C."
exec xvfb-run -a -s "-screen 0 1280x800x24" build/bin/pinion demo/plates/landing.mp4
