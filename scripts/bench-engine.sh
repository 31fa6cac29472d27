#!/usr/bin/env bash
# The write engine against plain tools, side by side in one run: a 4 GiB image (GPT, FAT and ext4, about a
# third in use) to a card file, to slow media, to two slow media at once; CPU time and memory.
#
# Needs root (loop devices, the blkio controller), and from Debian: mtools dosfstools e2fsprogs fdisk
# zstd xz-utils time bc
# Usage: scripts/bench-engine.sh [ROUNDS] [FOLDER]
# PINEWRIT_BEFORE=FILE: another build of the program, measured in the same rounds; nothing else then.
set -euo pipefail
rounds=${1:-3}
work=$(mktemp -d -p "${2:-${TMPDIR:-/tmp}}")
cd "$(dirname "$0")/.."
cargo build --release --quiet
pinewrit=$PWD/target/release/pinewrit
control=/sys/fs/cgroup/blkio/pinewrit-bench
loops=()
clean_up() {
  cd /
  for device in "${loops[@]}"; do losetup -d "$device" || true; done
  rmdir "$control" 2> /dev/null || true
  rm -rf "$work"
}
trap clean_up EXIT
cd "$work"
export XDG_STATE_HOME=$work/state

make_image() {
  mkdir tree boot
  python3 - << 'PYTHON'
import os, random
random.seed(3)
def blob(size):
    out = bytearray()
    while len(out) < size:
        out += random.randbytes(4096) + bytes(random.randrange(4) for _ in range(16)) * 256
    return bytes(out[:size])
base = [blob(1 << 20) for _ in range(48)]
for i in range(1100):
    os.makedirs(f'tree/d{i % 40}', exist_ok=True)
    cut, flip = random.randrange(1 << 20), random.randrange(1, 255)
    data = base[i % 48]
    data = (data[cut:] + data[:cut]).translate(bytes(j ^ flip for j in range(256)))
    open(f'tree/d{i % 40}/f{i}', 'wb').write(data)
for i in range(12):
    open(f'boot/k{i}', 'wb').write(blob(10 << 20))
PYTHON
  truncate -s 4G image
  printf 'label: gpt\nstart=2048, size=1048576, type=uefi\nstart=1050624, type=linux\n' | sfdisk -q image
  truncate -s 512M fat
  mkfs.fat -F 32 -s 8 fat > /dev/null
  mcopy -i fat boot/* ::
  truncate -s $(((4 * 1024 - 515) * 1048576)) ext
  mkfs.ext4 -q -F -d tree ext
  dd if=fat of=image bs=1M seek=1 conv=notrunc,sparse status=none
  dd if=ext of=image bs=1M seek=513 conv=notrunc,sparse status=none
  zstd -q -T2 -3 image -o image.zst
  xz -T2 -1 -k image
  rm -r tree boot fat ext
}

drop_caches() { sync; echo 3 > /proc/sys/vm/drop_caches; }
# seconds COMMAND ...: wall clock.
seconds() {
  local from to
  from=$(date +%s.%N)
  "$@" > /dev/null 2>> log
  to=$(date +%s.%N)
  echo "$to - $from" | bc
}
ratio() { printf '%.2f' "$(echo "$1 / $2" | bc -l)"; }

plain_zst() { zstd -dc image.zst > plain; sync plain; drop_caches; zstd -dc image.zst | cmp - plain; }
plain_xz() { xz -T0 -dc image.xz > plain; sync plain; drop_caches; xz -T0 -dc image.xz | cmp - plain; }
ours() { "$pinewrit" -q write "$1" --to card --size 8GB --yes; }
before() { "$PINEWRIT_BEFORE" -q write "$1" --to card --size 8GB --yes; }

# Two builds of the program, one after the other, so that neither has the better machine.
side_by_side() {
  local packed now then
  for packed in zst xz; do
    for _ in $(seq "$rounds"); do
      rm -f card; drop_caches
      then=$(seconds before "image.$packed")
      rm -f card; drop_caches
      now=$(seconds ours "image.$packed")
      printf '%-28s now %6.2f s   before %6.2f s   ratio %s\n' \
        "$packed to a card file" "$now" "$then" "$(ratio "$now" "$then")"
    done
  done
  rm -f card
}

card_file() {
  local packed mine plain
  for packed in zst xz; do
    for _ in $(seq "$rounds"); do
      rm -f card plain
      drop_caches
      mine=$(seconds ours "image.$packed")
      rm -f card
      drop_caches
      plain=$(seconds "plain_$packed")
      printf '%-28s pinewrit %6.2f s   plain tools %6.2f s   ratio %s\n' \
        "$packed to a card file" "$mine" "$plain" "$(ratio "$mine" "$plain")"
    done
  done
  rm -f card plain
}

# throttled NAME: a loop device of 20 MB/s writing and 40 MB/s reading, in $device.
throttled() {
  truncate -s 5G "$1"
  device=$(losetup --find --show --direct-io=on "$1")
  loops+=("$device")
  local number
  number=$(printf '%d:%d' "0x$(stat -c %t "$device")" "0x$(stat -c %T "$device")")
  echo "$number 20000000" > "$control/blkio.throttle.write_bps_device"
  echo "$number 40000000" > "$control/blkio.throttle.read_bps_device"
}
inside() { (echo "$BASHPID" > "$control/cgroup.procs"; exec "$@"); }
bytes_of() { tail -1 "$1" | python3 -c 'import json,sys; r=json.load(sys.stdin); print(r["written_bytes"], r["used_bytes"])'; }

slow_media() {
  mkdir -p "$control"
  local one two alone both written used expected
  throttled slow-one; one=$device
  throttled slow-two; two=$device
  alone=$(seconds inside sh -c "'$pinewrit' --json write image.zst --to $one --yes > one.json")
  read -r written used < <(bytes_of one.json)
  expected=$(echo "scale=2; $written / 20000000 + $used / 40000000" | bc)
  printf '%-28s pinewrit %6.1f s   %s bytes written and read at 20 and 40 MB/s: %s s   ratio %s\n' \
    'one slow medium' "$alone" "$written" "$expected" "$(ratio "$alone" "$expected")"
  both=$(seconds inside "$pinewrit" -q write image.zst --to "$one" --to "$two" --yes)
  printf '%-28s pinewrit %6.1f s   one alone %6.1f s   ratio %s\n' \
    'two slow media' "$both" "$alone" "$(ratio "$both" "$alone")"
}

# CPU seconds of a command's threads by their names, as last seen, into the file `threads`.
by_thread() {
  python3 - "$@" << 'PYTHON'
import glob, os, subprocess, sys, time
tick = os.sysconf('SC_CLK_TCK')
child = subprocess.Popen(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
seen = {}
while child.poll() is None:
    for path in glob.glob(f'/proc/{child.pid}/task/*/stat'):
        try:
            text = open(path).read()
        except OSError:
            continue
        name, rest = text[text.index('(') + 1:text.rindex(')')], text[text.rindex(')') + 2:].split()
        seen[path] = (name, (int(rest[11]) + int(rest[12])) / tick)
    time.sleep(0.02)
sums = {}
for name, seconds in seen.values():
    sums[name] = sums.get(name, 0) + seconds
with open('threads', 'w') as out:
    for name, seconds in sorted(sums.items()):
        print(name, f'{seconds:.2f}', file=out)
PYTHON
}

resources() {
  local gib engine
  rm -f card
  "$pinewrit" --json write image.zst --to card --size 8GB --yes > one.json 2>> log
  gib=$(echo "$(bytes_of one.json | cut -d' ' -f1) / 1073741824" | bc -l)
  rm -f card
  drop_caches
  by_thread "$pinewrit" -q write image.zst --to card --size 8GB --yes
  # Mapping and hashing, writing, reading back and hashing; the rest reads and unpacks the image.
  engine=$(awk '$1 ~ /^(map|write|check|medium)$/ {sum += $2} END {print sum}' threads)
  printf '%-28s %.2f s of CPU a GiB beside unpacking (%s)\n' 'zst to a card file' \
    "$(echo "$engine / $gib" | bc -l)" "$(tr '\n' ' ' < threads)"
  rm -f card
  /usr/bin/time -f '%M' -o used "$pinewrit" -q write image.zst --to card --size 8GB --yes > /dev/null 2>> log
  printf '%-28s peak memory %d MiB\n' 'zst to a card file' "$(($(cat used) / 1024))"
  local media=()
  for name in a b c d; do rm -f "$name"; media+=(--to "$name"); done
  for packed in zst xz; do
    /usr/bin/time -f '%M' -o used "$pinewrit" -q write "image.$packed" "${media[@]}" --size 5GB --yes > /dev/null 2>> log
    printf '%-28s peak memory %d MiB\n' "$packed to four card files" "$(($(cat used) / 1024))"
  done
  rm -f a b c d
}

make_image
if [ -n "${PINEWRIT_BEFORE:-}" ]; then side_by_side; exit; fi
card_file
resources
slow_media
