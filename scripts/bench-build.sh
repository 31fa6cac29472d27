#!/usr/bin/env bash
# Building against plain tools: ext4 from a tar of some 800 MB, growing, tables and formatting.
#
# Needs, from Debian: e2fsprogs, tar, time, zstd, and a system with 800 MB in /usr.
# Usage: scripts/bench-build.sh [ROUNDS]
# PINEWRIT_BEFORE=FILE: another build of the program, measured in the same rounds.
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-3}
cargo build --release --quiet
export PATH=$PWD/target/release:$PATH
work=$(mktemp -d -p "${TMPDIR:-/var/tmp}")
trap 'rm -rf "$work"' EXIT
cd "$work"
export XDG_STATE_HOME=$work/state

# Files of this machine until there are 800 MB.
mkdir tree
(cd / && find usr -xdev -type f -size -20M -printf '%s %p\n' | sort -k2 |
  awk '{ sum += $1; if (sum <= 800e6) print $2 }') > names
tar -C / -cf root.tar -T names
tar -xf root.tar -C tree
echo "$(find tree -type f | wc -l) files, $(du -sm --apparent-size tree | cut -f1) MB"

cat > layout.toml <<'TOML'
[medium]
scheme = "gpt"
[[partition]]
size = "rest"
filesystem = "ext4"
  [[partition.content]]
  from = "root.tar"
TOML

timed() {                                     # NAME COMMAND...
  local name=$1; shift
  sync
  /usr/bin/time -f "%e s, %M KiB   $name" "$@" > /dev/null 2> told || { cat told; exit 1; }
  tail -1 told
}
for _ in $(seq "$rounds"); do
  rm -f a.img b.img
  timed 'pinewrit build, not read back' pinewrit -q build layout.toml --to a.img --size 2GB --no-verify --yes
  rm -f a.img
  timed 'pinewrit build, read back' pinewrit -q build layout.toml --to a.img --size 2GB --yes
  rm -f a.img
  [ -z "${PINEWRIT_BEFORE:-}" ] || timed 'the same before' \
    "$PINEWRIT_BEFORE" -q build layout.toml --to a.img --size 2GB --yes
  truncate -s 2GB b.img
  timed 'mkfs.ext4 -d (its tree unpacked before)' mkfs.ext4 -q -F -d tree b.img
done

for _ in $(seq "$rounds"); do
  rm -f c.img
  timed 'table create, 64 GB' pinewrit table create c.img --size 64GB
  timed 'table add' pinewrit table add c.img --type fat32 --size rest
  timed 'format as FAT32, 64 GB' pinewrit format c.img 1 --as fat32
  timed 'format as ext4, 64 GB' pinewrit format c.img 1 --as ext4 --yes
  [ -z "${PINEWRIT_BEFORE:-}" ] || timed 'the same before' "$PINEWRIT_BEFORE" format c.img 1 --as ext4 --yes
done
[ -z "${PINEWRIT_BEFORE:-}" ] || exit 0

rm -f c.img small.img
truncate -s 2G small.img && mkfs.ext4 -q -F small.img && zstd -q small.img
pinewrit -q table create c.img --size 70GB && pinewrit -q table add c.img --type linux --size 64GiB
timed 'write --into a partition of 64 GiB, 2 GiB' pinewrit -q write small.img.zst --to c.img --into 1 --yes
rm -f c.img
pinewrit -q table create c.img --size 70GB && pinewrit -q table add c.img --type linux --size 64GiB
timed 'the same with --grow' pinewrit -q write small.img.zst --to c.img --into 1 --yes --grow
