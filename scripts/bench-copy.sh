#!/usr/bin/env bash
# Copies, side by side in one run:
# - clone of a medium a third full, read at 40 MB/s and written at 20 MB/s (simulated), against the time
#   that its used bytes take at the slower of the two, plus reading them back;
# - save of a 4 GiB medium with some 1.3 GiB in use to zst, against dd with zstd and against dd with holes;
# - a root of 2 GiB with 40 000 files made smaller.
# Time and the most memory of each.
#
# Needs from Debian: e2fsprogs dosfstools mtools fdisk zstd time bc
# Usage: scripts/bench-copy.sh [ROUNDS] [FOLDER]
set -euo pipefail
rounds=${1:-3}
work=$(mktemp -d -p "${2:-${TMPDIR:-/tmp}}")
cd "$(dirname "$0")/.."
cargo build --release --quiet
pinewrit=$PWD/target/release/pinewrit
trap 'cd /; rm -rf "$work"' EXIT
cd "$work"
export XDG_STATE_HOME=$work/state

# A tree of files that pack by about half.
make_tree() {
  python3 - "$1" "$2" "$3" << 'PYTHON'
import os, random, sys
folder, files, size = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
random.seed(5)
base = [random.randbytes(1 << 16) + bytes(random.randrange(4) for _ in range(1 << 16)) for _ in range(16)]
for i in range(files):
    path = f'{folder}/d{i % 97}/e{i % 13}'
    os.makedirs(path, exist_ok=True)
    data, left = bytearray(), random.randrange(size // 2, size * 3 // 2)
    while left > 0:
        part = base[random.randrange(16)]
        cut = random.randrange(len(part) // 2)
        data += part[cut:cut + left]
        left -= len(part) - cut
    open(f'{path}/f{i}', 'wb').write(data)
PYTHON
}

# Image NAME of SIZE in MiB: a FAT of 256 MiB and a root from a folder.
make_medium() {
  truncate -s "$2M" "$1"
  printf 'label: dos\nstart=2048, size=524288, type=c\nstart=526336, type=83\n' | sfdisk -q "$1"
  truncate -s 256M fat
  mkfs.fat -F 32 -s 8 fat > /dev/null
  truncate -s $((($2 - 257) * 1048576)) ext
  mkfs.ext4 -q -F -d "$3" ext
  dd if=fat of="$1" bs=1M seek=1 conv=notrunc,sparse status=none
  dd if=ext of="$1" bs=1M seek=257 conv=notrunc,sparse status=none
  rm fat ext
}

# Runs a command; prints its seconds and the most memory in MiB.
timed() {
  /usr/bin/time -o timing -f '%e %M' "$@" > log 2>&1 || { cat log; exit 1; }
  read -r seconds memory < timing
  printf '%8.2f s   %4d MiB' "$seconds" $((memory / 1024))
}

echo "== save: 4 GiB, about a third in use ($rounds rounds)"
make_tree tree 1300 1048576
mkdir -p tree/etc
make_medium medium.img 4096 tree
used=$(du -sb tree | cut -f 1)
for _ in $(seq "$rounds"); do
  rm -f saved.img.zst plain.img.zst plain.img saved.img
  echo "save to zst            $(timed "$pinewrit" save medium.img --to saved.img.zst)   $(stat -c %s saved.img.zst) bytes"
  echo "dd | zstd -T0          $(timed sh -c 'dd if=medium.img bs=4M status=none | zstd -q -T0 -o plain.img.zst')   $(stat -c %s plain.img.zst) bytes"
  echo "save to a plain image  $(timed "$pinewrit" save medium.img --to saved.img)"
  echo "dd conv=sparse         $(timed dd if=medium.img of=plain.img bs=4M conv=sparse status=none)"
done
rm -f saved.img.zst plain.img.zst plain.img saved.img

echo "== clone: read at 40 MB/s, written at 20 MB/s"
cat > rack.toml << 'RACK'
state = "rack-state"
[[readers]]
name = "left"
bus = "usb"
speed = 5000
holds = "from"
[[readers]]
name = "right"
bus = "usb"
speed = 5000
holds = "to"
[[cards]]
name = "from"
file = "medium.img"
size = "4GiB"
maker = "Larch"
model = "Needle"
serial = "1"
read-speed = "40MB/s"
write-speed = "20MB/s"
[[cards]]
name = "to"
file = "copy.img"
size = "4GiB"
maker = "Larch"
model = "Needle"
serial = "2"
read-speed = "40MB/s"
write-speed = "20MB/s"
RACK
for _ in $(seq "$rounds"); do
  rm -f copy.img
  echo "clone                  $(timed "$pinewrit" --rack rack.toml --json clone rack:left --to rack:right --yes)"
  bytes=$(grep -o '"used_bytes":[0-9]*' log | tail -1 | cut -d : -f 2)
  least=$(echo "scale=2; $bytes / 20000000 + $bytes / 40000000" | bc)
  echo "  in use $bytes bytes: $least s at 20 MB/s, plus reading back at 40 MB/s"
done
rm -f medium.img copy.img

echo "== smaller: a root of 2 GiB with 40 000 files"
rm -r tree
make_tree tree 40000 16384
mkdir -p tree/etc
for _ in $(seq "$rounds"); do
  rm -f root.img
  make_medium root.img 2304 tree
  echo "table resize           $(timed "$pinewrit" table resize root.img 2 --size 1200MiB --with-filesystem --yes)"
  rm -f root.img small.img.zst
  make_medium root.img 2304 tree
  echo "save --shrink          $(timed "$pinewrit" save root.img --to small.img.zst --shrink)   $(stat -c %s small.img.zst) bytes"
done
