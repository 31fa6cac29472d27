#!/usr/bin/env bash
# Writing and verifying against the plain pipeline of the system's own tools, side by side.
#
#   scripts/bench-write.sh [ROUNDS]      (default 3)
#   PINEWRIT_BEFORE=FILE                 another build of the program, measured in the same rounds
#
# Needs zstd, GNU time (`apt-get install time`), python3, and 8 GB in the folder TMPDIR.
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-3}
cargo build --release --quiet
pinewrit=$PWD/target/release/pinewrit
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"

# An image of SIZE MiB: a third that does not pack, a third that packs well, a third of zeros.
make_image() {
  python3 - "$1" "$2" << 'PY'
import os, sys
name, mib = sys.argv[1], int(sys.argv[2])
with open(name, "wb") as out:
    for i in range(mib):
        kind = i % 3
        out.write(os.urandom(1 << 20) if kind == 0 else os.urandom(4096) * 256 if kind == 1 else bytes(1 << 20))
    # A table with one FAT32 (LBA) partition from 1 MiB on.
    out.seek(446)
    out.write(bytes([0, 0, 0, 0, 0x0C, 0, 0, 0, 0, 8, 0, 0]) + ((mib - 1) * 2048).to_bytes(4, "little"))
    out.seek(510)
    out.write(b"\x55\xaa")
PY
  zstd -q --rm "$1"
}

measure() { /usr/bin/time -f '%e %U %S %M' -o figures "$@" > /dev/null 2>&1; cat figures; }

make_image gib.img 1024
printf '%-6s %-10s %7s %7s %7s %9s\n' round what wall/s user/s sys/s peak/KiB
for round in $(seq "$rounds"); do
  rm -f plain.img card.img; sync
  plain=$(measure sh -c 'zstd -dcq gib.img.zst > plain.img; sync plain.img; zstd -dcq gib.img.zst | cmp - plain.img')
  rm -f plain.img; sync
  ours=$(measure "$pinewrit" -q write gib.img.zst --to card.img --size 1100MB --yes)
  rm -f card.img; sync
  # shellcheck disable=SC2046
  [ -z "${PINEWRIT_BEFORE:-}" ] || printf '%-6s %-10s %7s %7s %7s %9s\n' "$round" before \
    $(measure "$PINEWRIT_BEFORE" -q write gib.img.zst --to card.img --size 1100MB --yes)
  rm -f card.img
  # shellcheck disable=SC2086
  { printf '%-6s %-10s %7s %7s %7s %9s\n' "$round" plain $plain
    printf '%-6s %-10s %7s %7s %7s %9s\n' "$round" pinewrit $ours; }
  awk -v a="${ours%% *}" -v b="${plain%% *}" 'BEGIN { printf "       ratio      %7.2f\n", a / b }'
done

[ -z "${PINEWRIT_BEFORE:-}" ] || exit 0
echo
echo "peak memory of a 2 GiB write, in KiB, by wrapping:"
make_image two.img 2048
zstd -dq two.img.zst
gzip -1 -k two.img
xz -0 -T0 -k two.img
for packed in two.img two.img.gz two.img.xz two.img.zst; do
  rm -f card.img
  # shellcheck disable=SC2046
  printf '  %-12s %9s\n' "$packed" $(measure "$pinewrit" -q write "$packed" --to card.img --size 2200MB --yes | awk '{ print $4 }')
done
