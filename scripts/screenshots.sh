#!/usr/bin/env bash
# Draws the pictures in docs/screenshots from the demo's data, in a real terminal window.
#
# Needs, from Debian: xvfb xterm imagemagick fonts-dejavu-core
# Usage: scripts/screenshots.sh [NAME ...]      without names: all
set -euo pipefail
cd "$(dirname "$0")/.."
repo=$PWD
shots=$repo/docs/screenshots
cargo build --release --quiet
work=$(mktemp -d)
clean_up() {
  kill "$xvfb" 2> /dev/null || true
  rm -rf "$work"
}
trap clean_up EXIT

export DISPLAY=:77
Xvfb "$DISPLAY" -screen 0 1280x800x24 > /dev/null 2>&1 &
xvfb=$!
sleep 1

export PATH=$repo/target/release:$PATH XDG_STATE_HOME=$work/state
pinewrit -q demo --dir "$work/demo" > /dev/null
cd "$work/demo"
# A settings file with the mistakes that people make.
sed -e 's/larkfell-03/larkfell_03/' -e 's|Europe/Vienna|Europe/Wien|' -e 's|10.77.3.1"|10.77.4.1"|' \
  -e 's/^country.*//' -e 's/made-up sample passphrase/sample/' hut-03.toml > hut-04.toml
sed -e 's/larkfell-03/larkfell-05/' -e 's/10.77.3.10/10.77.5.10/' -e 's/10.77.3.1"/10.77.5.1"/' \
  hut-03.toml > hut-05.toml
ln -s hut-card.img card.img
# A fresh rack with a slower card, so that there is something to see.
pinewrit -q rack new "$work/fresh" > /dev/null
sed -i -e 's|write-speed = "40MB/s"|write-speed = "20MB/s"|' "$work/fresh/rack.toml"

# shot NAME SECONDS COMMAND [BEFORE] [POINTS] [GEOMETRY]: what the terminal shows SECONDS after COMMAND was
# typed. BEFORE is done first and not shown; POINTS is the size of the letters,
# GEOMETRY that of the window in letters: it must fit the screen.
shot() {
  local name=$1 seconds=$2 command=$3 before=${4:-:} points=${5:-12} geometry=${6:-125x38}
  cat > "$work/typed" <<SH
$before
printf '\033[1;32m~/huts\033[0m \$ %s\n' '$command'
$command
printf '\n\033[1;32m~/huts\033[0m \$ '
sleep 60
SH
  xterm -geometry "$geometry+0+0" -fa 'DejaVu Sans Mono' -fs "$points" -bg '#10151a' -fg '#d5dbe1' -b 12 \
    -xrm 'xterm*color8: #4a5560' -xrm 'xterm*faintIsRelative: true' -e bash "$work/typed" &
  local window=$!
  sleep "$seconds"
  import -window root -colors 96 -depth 8 "$shots/$name.png"
  kill "$window" 2> /dev/null || true
  wait "$window" 2> /dev/null || true
  echo "$name"
}

wanted() { [ "${#names[@]}" -eq 0 ] || [[ " ${names[*]} " == *" $1 "* ]]; }
names=("$@")

rack="export PINEWRIT_RACK=rack.toml"
fresh="export PINEWRIT_RACK=$work/fresh/rack.toml"
if wanted media; then shot media 2 'pinewrit media --all' "$rack"; fi
if wanted inspect; then shot inspect 2 'pinewrit inspect larkfell-os.img.zst'; fi
if wanted demo; then shot demo 18 'pinewrit demo' : 6.5 230x64; fi
if wanted configure-dry-run; then
  shot configure-dry-run 2 'pinewrit configure card.img --settings hut-05.toml --dry-run'
fi
if wanted settings-mistakes; then
  shot settings-mistakes 2 'pinewrit configure card.img --settings hut-04.toml'
fi
if wanted write-refused; then
  shot write-refused 3 \
    'for medium in XJGS A51K WZP4; do pinewrit write larkfell-os.img.zst --to $medium; echo; done' "$rack"
fi
if wanted write-progress; then
  shot write-progress 6 'pinewrit write larkfell-os.img.zst --to HXRD --settings hut-03.toml --yes' "$fresh"
fi
