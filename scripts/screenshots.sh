#!/bin/sh
# Makes docs/screenshots from a demo of its own.
set -eu
home=$(mktemp -d)
chmod 755 "$home"
bin/eager demo --home "$home" --listen 127.0.0.1:18099 >"$home/log" 2>&1 &
demo=$!
trap 'kill $demo; wait $demo || true; rm -rf "$home"' EXIT
for _ in $(seq 120); do
  [ -e "$home/demo.env" ] && break
  kill -0 $demo || { cat "$home/log"; exit 1; }
  sleep 0.5
done
sleep 1
set -a
. "$home/demo.env"
set +a
go -C browsertest run ./screenshots
