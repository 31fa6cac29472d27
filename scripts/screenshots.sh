#!/usr/bin/env bash
# Draws the pictures in docs/screenshots from the demo's data, in a real terminal window.
#
# Needs root (for a loop device that is as slow as a card) and, from Debian:
#   xvfb xterm imagemagick fonts-dejavu-core util-linux
# Usage: scripts/screenshots.sh [NAME ...]      without names: all
set -euo pipefail
cd "$(dirname "$0")/.."
repo=$PWD
shots=$repo/docs/screenshots
cargo build --release --quiet
work=$(mktemp -d)
slow=/sys/fs/cgroup/blkio/pinewrit-screenshots
loop=
clean_up() {
  [ -z "$loop" ] || losetup -d "$loop"
  [ ! -d "$slow" ] || rmdir "$slow" || true
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

if wanted inspect; then shot inspect 2 'pinewrit inspect larkfell-os.img.zst'; fi
if wanted demo; then shot demo 6 'pinewrit demo' : 7.5 200x59; fi
if wanted configure-dry-run; then
  shot configure-dry-run 2 'pinewrit configure card.img --settings hut-05.toml --dry-run'
fi
if wanted settings-mistakes; then
  shot settings-mistakes 2 'pinewrit configure card.img --settings hut-04.toml'
fi
if wanted write-refused; then
  ln -s "$(findmnt -no SOURCE /)" my-disk
  shot write-refused 2 \
    'pinewrit write larkfell-os.img.zst --to my-disk --yes; pinewrit write larkfell-os.img.zst --to small.img --size 128MB'
fi
if wanted write-progress; then
  truncate -s 4GB "$work/slow.img"
  loop=$(losetup --find --show "$work/slow.img")
  mkdir -p "$slow"
  number=$(lsblk -dno MAJ:MIN "$loop" | tr -d ' ')
  echo "$number 20000000" > "$slow/blkio.throttle.write_bps_device"
  echo "$number 40000000" > "$slow/blkio.throttle.read_bps_device"
  ln -s "$loop" card-reader
  shot write-progress 8 'pinewrit write larkfell-os.img.zst --to card-reader --settings hut-03.toml --yes' \
    "echo \$\$ > $slow/cgroup.procs"
  sleep 2
fi
