#!/usr/bin/env bash
# Filling a new FAT32, against `mcopy`: 20 000 files in one directory, 20 000 in 200 directories, one of 1 GiB;
# by the crate alone, and by the whole program, which verifies all of it. Then one change of a FAT32 of 64 GB on a
# medium that takes 10 ms a request.
#
# Needs root (for the last part), and from Debian: dosfstools, mtools, time.
# Usage: scripts/bench-fat.sh [ROUNDS]
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-3}
cargo build --release --quiet
cargo build --release --quiet -p pinewrit-fat --example fill
export PATH=$PWD/target/release:$PWD/target/release/examples:$PATH
work=$(mktemp -d -p "${TMPDIR:-/var/tmp}")
trap 'rm -rf "$work"' EXIT
cd "$work"
export XDG_STATE_HOME=$work/state

# Short names for one directory, because `mcopy` takes minutes with long ones.
mkdir one tree
for name in $(seq -f 'R%07.0f.TXT' 1 20000); do echo "$name" > "one/$name"; done
for hut in $(seq -f 'hut-%03.0f' 1 200); do
  mkdir "tree/$hut"
  for log in $(seq -f 'reading-of-the-day-%03.0f.log' 1 100); do echo "$log" > "tree/$hut/$log"; done
done
head -c 1G /dev/urandom > large

timed() {                                     # NAME COMMAND...
  local name=$1; shift
  sync
  /usr/bin/time -f "%e s, %M KiB   $name" "$@" > out 2> told || { cat told; exit 1; }
  tail -1 told
}
for _ in $(seq "$rounds"); do
  for what in one tree large; do
    truncate -s 0 fat.img && truncate -s 1500M fat.img && mkfs.fat -F 32 fat.img > /dev/null
    timed "$what: the crate" fill fat.img "$what"
    fsck.fat -n fat.img > /dev/null
    truncate -s 0 fat.img && truncate -s 1500M fat.img && mkfs.fat -F 32 fat.img > /dev/null
    timed "$what: mcopy, then sync" sh -c "mcopy -s -Q -i fat.img $what ::/ && sync fat.img"
    printf '[medium]\n[[partition]]\nsize = "1500MiB"\nfilesystem = "fat32"\n[[partition.content]]\nfrom = "%s"\nto = "/%s"\n' \
      "$what" "$([ "$what" = large ] || echo "$what/")" > layout.toml
    rm -f card.img
    timed "$what: pinewrit build, verified" pinewrit build layout.toml --to card.img --size 1600MiB --yes
  done
done
