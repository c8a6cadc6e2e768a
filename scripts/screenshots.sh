#!/usr/bin/env bash
# SPDX-License-Identifier: GPL-3.0-or-later
# Makes docs/screenshots anew from the demo recording.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. scripts/setup.sh
install_packages
configure
build fugato demo_recording
export QT_QPA_PLATFORM=offscreen QT_LOGGING_RULES='*=false' XDG_CONFIG_HOME
XDG_CONFIG_HOME=$(mktemp -d)
trap 'rm -rf "$XDG_CONFIG_HOME"' EXIT
demo=build/release/demo/skerry-regatta.fugato
picture() { build/release/bin/fugato "$demo" --size 1280x800 --picture "docs/screenshots/$1.png" "${@:2}"; }
picture main-light --light
picture main-dark --dark --cause C
