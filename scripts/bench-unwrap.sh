#!/usr/bin/env bash
# Unwrapping and writing, against the packers' own unpacking to nowhere, side by side.
#
#   scripts/bench-unwrap.sh [ROUNDS] [GIB]      (default 3 rounds, an image of 2 GiB)
#
# Needs xz, gzip, zstd (with pzstd), bzip2, GNU time (`apt-get install time`), python3, and five
# times the image's size in the folder TMPDIR.
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-3}
export gib=${2:-2}
cargo build --release --quiet
pinewrit=$PWD/target/release/pinewrit
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"

# An image that packs to about an eighth: words from a list, repeats and zeros, behind an MBR.
python3 - << 'PY'
import os, random
random.seed(2)
words = [os.urandom(random.randint(3, 12)) for _ in range(4000)]
with open("image", "wb") as out:
    gib = int(os.environ["gib"])
    for _ in range(64 * gib):
        chunk = b"".join(random.choices(words, k=150000))[: 1 << 20]
        for j in range(8):
            out.write(chunk if j % 2 == 0 else bytes(1 << 20))
            out.write(b"".join(random.choices(words, k=30000)))
            out.write(bytes(200000))
    out.truncate(gib << 30)
    out.seek(446)
    out.write(bytes([0, 0, 0, 0, 0x0C, 0, 0, 0, 0, 8, 0, 0]) + ((gib * 1024 - 1) * 2048).to_bytes(4, "little"))
    out.seek(510)
    out.write(b"\x55\xaa")
PY
xz -T0 -2 -k image
gzip -1 -k image
zstd -q -k image
pzstd -q -k -o frames.zst image
head -c 256M image | bzip2 > part.bz2

measure() { /usr/bin/time -f '%e %M' -o figures "$@" > /dev/null 2>&1; cat figures; }
write() { rm -f card; measure "$pinewrit" -q write "$1" --to card --size $((gib * 1100))MB --no-verify --yes; }

printf '%-6s %-34s %7s %9s\n' round what wall/s peak/KiB
for round in $(seq "$rounds"); do
  sync
  for pair in 'image.xz|xz -T0 -dc image.xz' 'image.gz|gzip -dc image.gz' \
    'image.zst|zstd -dcq image.zst > plain; sync plain' \
    'frames.zst|zstd -dcq frames.zst > plain; sync plain' 'part.bz2|bzip2 -dc part.bz2'; do
    packed=${pair%%|*} plain=${pair#*|}
    # shellcheck disable=SC2046
    printf '%-6s %-34s %7s %9s\n' "$round" "$plain" $(measure sh -c "$plain")
    # shellcheck disable=SC2046
    printf '%-6s %-34s %7s %9s\n' "$round" "pinewrit write $packed" $(write "$packed")
    rm -f plain
  done
done
