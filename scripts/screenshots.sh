#!/usr/bin/env bash
# SPDX-License-Identifier: GPL-3.0-or-later
# Makes docs/screenshots anew from the demo recording.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. scripts/setup.sh
install_packages
configure
build fugato fugato-cli demo_recording skerry
export QT_QPA_PLATFORM=offscreen QT_LOGGING_RULES='*=false' XDG_CONFIG_HOME XDG_CACHE_HOME XDG_DATA_HOME
XDG_CONFIG_HOME=$(mktemp -d)
XDG_CACHE_HOME=$XDG_CONFIG_HOME
XDG_DATA_HOME=$XDG_CONFIG_HOME/data
trap 'rm -rf "$XDG_CONFIG_HOME" "${XDG_RUNTIME_DIR-}"' EXIT
demo=build/release/demo/skerry-regatta.fugato
large=$XDG_CONFIG_HOME/large.fugato
build/release/bin/skerry --scale 10000000 --out "$large"
picture() {  # NAME RECORDING OPTION…
    build/release/bin/fugato "$2" --size 1280x800 --picture "docs/screenshots/$1.png" "${@:3}"
}
# A folder of recordings: the race with some of its troubles, and without any.
recordings=$XDG_DATA_HOME/fugato/recordings
mkdir -p "$recordings"
minute=10
for troubles in gust,log,table autosave spray,rounding none gulls,log; do
    made=$recordings/skerry-regatta-20261127-16${minute}00.fugato
    build/release/bin/skerry --virtual --seconds 60 --troubles "$troubles" --out "$made"
    touch -d "2026-11-27 16:$minute" "$made"
    minute=$((minute + 7))
done
# A race that runs meanwhile, on the start page and joined.
XDG_RUNTIME_DIR=$(mktemp -d)
export XDG_RUNTIME_DIR
build/release/bin/skerry --offer --seconds 60 --system none &
race=$!
sleep 1
build/release/bin/fugato --light --size 1280x800 --after 3 --picture docs/screenshots/start.png
build/release/bin/fugato --light --size 1280x800 --join skerry-regatta --after 9 --picture docs/screenshots/live.png
kill $race
build/release/bin/fugato --light --command "What to collect" --after 3 --picture docs/screenshots/presets.png
picture main-light "$demo" --light
picture main-dark "$demo" --dark --cause C
picture whole "$demo" --light --command "Whole recording"
picture large-marker "$large" --light --range 40-60 --find Splash
picture what-if "$demo" --light --repair A,B
picture advice "$demo" --light --cause B --page advice
picture workspace "$demo" --light --look-at cause --page markers --command "Room for the tables"
picture events "$demo" --light --page events
picture memory "$demo" --light --look-at whole --page memory
picture instant "$demo" --light --look-at frame --at 131.335 --page instant
# Two programs that ran at once: their clocks are virtual, so when they began is written into their text form.
began=179597000000
for program in skerry-regatta spectator; do
    parts=$XDG_CONFIG_HOME/$program
    build/release/bin/skerry --virtual --system none --seconds 60 --seed "${#program}" --out "$parts.fugato" \
        --troubles "$([ $program = spectator ] && echo none || echo gust,log,table)"
    build/release/bin/fugato-cli convert "$parts.fugato" "$parts.jsonl"
    sed -i "1s/}/,\"started_unix_ns\":${began}0000000}/; s/\"value\":\"skerry-regatta\"/\"value\":\"$program\"/" "$parts.jsonl"
    began=$((began + 400))
done
build/release/bin/fugato-cli merge "$XDG_CONFIG_HOME"/{skerry-regatta,spectator}.jsonl --out "$XDG_CONFIG_HOME/merged.fugato"
picture merged "$XDG_CONFIG_HOME/merged.fugato" --light --look-at whole --page waits
rm "$XDG_CONFIG_HOME/skerry-regatta.fugato"
# Notes, as a person might have written them.
noted=$XDG_CONFIG_HOME/skerry-regatta.fugato
cp "$demo" "$noted"
cat > "$noted.notes.json" <<'NOTES'
{"fugato_notes": 1, "notes": [
 {"id": "a", "about": "stretch", "name": "first lap", "text": "Smooth: to compare with.", "begin_ns": 30000000000,
  "end_ns": 34000000000, "changed_unix_ms": 1795970000000},
 {"id": "b", "about": "frame", "name": "frame 4104", "series": "race", "frame": 4104, "state": "to mend",
  "text": "Each drop is drawn over the last one: draw them together.", "begin_ns": 70500000000, "end_ns": 70527000000,
  "changed_unix_ms": 1795971000000}]}
NOTES
picture notes "$noted" --light --page notes
mkdir -p "$XDG_CONFIG_HOME/Fugato"
printf '[source]\nfolders=, %s\n[view]\ntables=true\n' "$PWD" > "$XDG_CONFIG_HOME/Fugato/fugato.conf"
picture source "$demo" --light --cause B --look-at whole --page source
picture marker "$demo" --light --cause D --find "Plan path" --page marker
picture stacks "$demo" --light --look-at cause --cause D --page stacks
picture cores "$demo" --light --look-at whole --page cores
