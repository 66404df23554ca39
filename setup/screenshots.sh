#!/usr/bin/env bash
# Runs the demo for a few minutes in a folder of its own and photographs it.
set -euo pipefail

home=$(mktemp -d /var/tmp/mullein-shots-XXXXXX)
chmod 755 "$home"
bin/mullein demo --home "$home" --listen 127.0.0.1:0 >"$home/out" 2>"$home/log" &
demo=$!
trap 'kill "$demo" 2>/dev/null; wait "$demo" 2>/dev/null; rm -rf "$home"' EXIT
sleep "${1:-60}"
mullein() { bin/mullein "$@" --home "$home"; }
{ echo '$ mullein status'; mullein status; echo; echo '$ mullein status gauge-readings'; mullein status gauge-readings; echo; echo '$ mullein ledger gauge-readings --limit 12'; mullein ledger gauge-readings --limit 12; } >"$home/status.txt"
arrival=$(mullein rejects gauge-readings --limit 1 -o json | sed -n 's/.*"arrival": \([0-9]*\).*/\1/p' | head -1)
# A correction, the row that it changed, and what its recall would do.
correction=$(mullein ledger gauge-readings --state loaded --limit 1 -o json | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
mullein redo "$correction" --because "to see it twice" >/dev/null
sleep 4
key=$(mullein rows "$correction" --limit 1 -o json | sed -n '/"rows"/,$p' | sed -n 's/^ *"\(.*\)",$/\1/p' | head -2 | sed 's/ /%20/g; s/+/%2B/g' | paste -sd' ')
row="key=station_id=${key% *}&key=observed_at=${key#* }"
{ echo "\$ mullein recall $correction --preview"; mullein recall "$correction" --preview; echo; echo '$ mullein rollup list'; mullein rollup list; echo; echo "\$ mullein verify $correction"; mullein verify "$correction"; echo; echo '$ mullein extract list'; mullein extract list; echo; echo '$ mullein extract windows neighbour-levels-out'; mullein extract windows neighbour-levels-out; } >"$home/recall.txt"
go run ./internal/demo/shots "$home" docs/screenshots "today=/today" "chains=/chains?of=river.gauge_reading@dark" "due=/due" feeds=/feeds feed=/feeds/gauge-readings \
  ledger=/ledger rejects=/rejects rehearsal=/feeds/lab-samples/rehearsal volumes=/volumes "arrival=/arrivals/$arrival" runs=/runs notices=/notices target=/targets/river.gauge_reading "row=/targets/river.gauge_reading/row?$row" "recall=/arrivals/$correction/recall" extract=/extracts/neighbour-levels-out places=/places "status=text:$home/status.txt" "recalled=text:$home/recall.txt"
