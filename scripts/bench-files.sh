#!/usr/bin/env bash
# Looking at many files without a mount, against `find` on a mount and `debugfs`: 20 000 names in one
# directory, 150 000 files in 500; and the check before and after a change of one file. The same directory of
# 20 000 on a FAT, which no kernel here mounts, against `mdir`.
#
# Needs root, and from Debian: e2fsprogs, dosfstools, mtools, mount, findutils, time.
# Usage: scripts/bench-files.sh [ROUNDS]
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-3}
cargo build --release --quiet
export PATH=$PWD/target/release:$PATH
work=$(mktemp -d -p "${TMPDIR:-/var/tmp}")
trap 'mountpoint -q "$work/m" && umount "$work/m"; rm -rf "$work"' EXIT
cd "$work"
export XDG_STATE_HOME=$work/state

truncate -s 3G many.img && mke2fs -q -F -t ext4 -N 400000 many.img
mkdir m && mount -o loop many.img m
mkdir m/etc m/one m/tree
for name in $(seq -f 'reading-of-the-day-%05.0f' 1 20000); do echo "$name" > "m/one/$name"; done
for hut in $(seq -f 'hut-%03.0f' 1 500); do
  mkdir "m/tree/$hut"
  for log in $(seq -f 'log-%04.0f' 1 300); do echo "$log" > "m/tree/$hut/$log"; done
done
umount m
echo 'snow depth' > new

# Short names, because the program that fills it takes a minute with long ones.
mkdir fat && for name in $(seq -f 'R%07.0f.TXT' 1 20000); do echo "$name" > "fat/$name"; done
truncate -s 300M fat.img && mkfs.fat -F 32 fat.img > /dev/null
mcopy -s -Q -i fat.img fat ::/

timed() {                                     # NAME COMMAND...
  local name=$1; shift
  sync
  echo 3 > /proc/sys/vm/drop_caches
  /usr/bin/time -f "%e s, %M KiB   $name" "$@" > out 2> told || { cat told; exit 1; }
  tail -1 told
}
for _ in $(seq "$rounds"); do
  for place in one tree; do
    pinewrit files list many.img "whole:/$place" --expected > "expected-$place"
    timed "files list, $place" pinewrit files list many.img "whole:/$place"
    timed "files tree, $place" pinewrit files tree many.img "whole:/$place"
    timed "files list --expected, $place" pinewrit files list many.img "whole:/$place" --expected
    timed "files check, $place" pinewrit files check many.img "whole:/$place" "expected-$place"
    mount -o loop,ro many.img m
    timed "find -printf on a mount, $place" find "m/$place" -printf '%M %u %g %s %t %p\n'
    timed "find and sha256sum on a mount, $place" sh -c "find m/$place -type f -print0 | xargs -0 sha256sum"
    umount m
  done
  timed 'debugfs ls -l, one' debugfs -R 'ls -l /one' many.img
  timed 'files put, with both checks' pinewrit files put many.img whole:/etc/new new --yes
  timed 'e2fsck -fn' e2fsck -fn many.img
  timed 'FAT: files list' pinewrit files list fat.img whole:/fat
  timed 'FAT: files list --expected' pinewrit files list fat.img whole:/fat --expected
  timed 'FAT: mdir' mdir -i fat.img ::/fat
done
