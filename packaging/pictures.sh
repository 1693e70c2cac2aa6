#!/usr/bin/env bash
# Makes docs/screenshots anew by driving the real window through the demo under Xvfb.
set -euo pipefail
cd "$(dirname "$0")/.."
source packaging/prepare.sh
install_missing test
configure_and_build test --target pinion-pictures
rm -f docs/screenshots/*.png
xvfb-run -a -s "-screen 0 1400x900x24" build/bin/pinion-pictures demo/plates docs/screenshots
