#!/usr/bin/env bash
# Makes the first inputs for the fuzz targets: small images in every wrapping, tables and file systems, by
# strangers' tools.
set -euo pipefail
cd "$(dirname "$0")"
out=$PWD/corpus/open_source
mkdir -p "$out"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
{ head -c 510 /dev/zero; printf '\x55\xaa'; seq 1 3000; head -c 5000 /dev/zero; } > i.img
sha256sum i.img > i.img.sha256
seed() { { printf "\\x$1"; cat; } > "$out/$2"; }      # the first byte chooses the name
seed 00 raw < i.img
gzip -c i.img | seed 00 gzip
xz -c i.img | seed 00 xz
xz --block-size=4096 -T2 -c i.img | seed 00 xz-blocks
xz --format=lzma -c i.img | seed 00 lzma
zstd -qc i.img | seed 00 zstd
{ zstd -qc i.img; zstd -qc i.img; } | seed 00 zstd-frames
bzip2 -c i.img | seed 00 bzip2
lz4 -qc i.img | seed 00 lz4
lz4 -qc --content-size -BX i.img | seed 00 lz4-size
tar -c i.img i.img.sha256 | seed 00 tar
tar -cz i.img i.img.sha256 | seed 00 tar-gz
zip -q - i.img i.img.sha256 | seed 01 zip-passing
zip -q a.zip i.img i.img.sha256 && seed 01 zip < a.zip
zip -q -fz b.zip i.img && seed 01 zip64 < b.zip
7z a a.7z i.img.sha256 i.img > /dev/null && seed 00 7z < a.7z && seed 02 7z-pieces < a.7z
zip -q -0 -s 64k c.zip i.img && cat c.z?? c.zip 2> /dev/null | seed 03 zip-disks || true
ls "$out" | wc -l

out=$(dirname "$out")/tables
mkdir -p "$out"
for label in dos gpt; do
  truncate -s 0 t.img && truncate -s 256K t.img
  printf 'label: %s\nstart=64, size=100, type=linux\nstart=200, size=200\n' $label | sfdisk -q t.img
  { printf '\x00'; cat t.img; } > "$out/$label"
done
out=$(dirname "$out")/ext4
mkdir -p "$out" tree/etc && seq 1 999 > tree/etc/log && ln -s etc/log tree/a
for options in '-t ext2' '-t ext4 -O ^metadata_csum,^64bit' '-t ext4' '-t ext4 -O inline_data,^metadata_csum' \
  '-t ext2 -r 0' '-t ext2 -O ^ext_attr,^filetype' '-t ext4 -N 16 -O ^metadata_csum' '-t ext4 -g 256 -O ^metadata_csum' \
  '-t ext4 -b 4096 -O ^metadata_csum' '-t ext3 -O ^metadata_csum,meta_bg,^resize_inode' '-t ext4 -O sparse_super2' \
  '-t ext4 -O bigalloc,^metadata_csum -C 16384' '-t ext4 -G 2 -O large_dir,^metadata_csum,uninit_bg'; do
  truncate -s 0 e.img && truncate -s 1M e.img
  mke2fs -q -F -b 1024 -N 32 $options -d tree e.img || continue
  cp e.img "$out/$(echo $options | tr -dc 'a-z0-9')"
done
# By the kernel: an index, names that came and went, pieces; then damaged here and there.
for options in '-t ext4' '-t ext4 -O ^metadata_csum' '-t ext3' '-t ext4 -O inline_data,^metadata_csum'; do
  truncate -s 0 k.img && truncate -s 1M k.img
  mke2fs -q -F -b 1024 -N 250 -O ^has_journal $options k.img
  mkdir -p mounted && mount -o loop k.img mounted || break
  mkdir mounted/etc mounted/b
  for index in $(seq 1 150); do touch "mounted/etc/reading-of-the-day-$index" || true; done
  rm mounted/etc/*7 && mkdir mounted/etc/hut && seq 1 99 > mounted/a && cp mounted/a mounted/etc/more
  for at in 3 9 20 33; do dd if=e.img of=mounted/a bs=1k seek=$at count=2 conv=notrunc status=none || true; done
  umount mounted
  name=kernel-$(echo $options | tr -dc 'a-z0-9')
  cp k.img "$out/$name"
  for at in 1100 2060 5000 20000 40000 70000; do
    cp k.img d.img && printf '\x7f\x02' | dd of=d.img bs=1 seek=$at conv=notrunc status=none
    cp d.img "$out/$name-$at"
  done
done
ls "$out" | wc -l
# FAT of every width, with names of all kinds; then damaged here and there.
out=$(dirname "$out")/fat
mkdir -p "$out" && seq 1 200 > log
for options in '-F 12 -s 1' '-F 12 -f 1 -R 7' '-F 16 -s 1' '-F 32 -s 1' '-F 12 -S 1024' '-F 32 -s 2 -R 33'; do
  truncate -s 0 f.img && truncate -s 2500K f.img && mkfs.fat $options -n HUT f.img > /dev/null 2>&1 || continue
  mmd -i f.img ::/a '::/a name that is long' 2> /dev/null || true
  mcopy -i f.img log ::/B 2> /dev/null && mcopy -i f.img log '::/a/b.txt' && mcopy -i f.img log '::/a name that is long.txt' || true
  name=$(echo "$options" | tr -dc 'a-zA-Z0-9')
  head -c 40000 f.img > "$out/$name"
  for at in 11 13 36 515 1030 1100 17000 18000 20000; do
    cp f.img d.img && printf '\x7f\x02' | dd of=d.img bs=1 seek=$at conv=notrunc status=none
    head -c 40000 d.img > "$out/$name-$at"
  done
done
ls "$out" | wc -l
root=$(cd "$(dirname "$out")/.." && pwd)
heads=$root/corpus/archive_heads
mkdir -p "$heads" && cd "$work"
truncate -s 1M s.img && printf 'MARK' | dd of=s.img bs=1 seek=300000 conv=notrunc status=none
for form in 0.0 0.1 1.0; do tar --format=pax --sparse-version=$form -cSf "$heads/pax-$form" s.img; done
tar --format=gnu -cSf "$heads/gnu" s.img
tar --format=pax -cf "$heads/plain" i.img i.img.sha256
7z a n.7z i.img > /dev/null && zip -q "$heads/zip-7z" n.7z && mv "$heads/zip-7z.zip" "$heads/zip-7z"
7z a -v1k p.7z i.img > /dev/null && zip -q -0 "$heads/pieces" p.7z.* && mv "$heads/pieces.zip" "$heads/pieces"
for target in settings layouts templates catalogues; do mkdir -p "$root/corpus/$target"; done
cp "$root/../demo/hut-03.toml" "$root/corpus/settings/hut"
cp "$root/../demo/layout.toml" "$root/corpus/layouts/demo"
cp "$root/../demo/shelf.toml" "$root/corpus/catalogues/demo"
cp "$root"/../demo/intakes/*.toml "$root/corpus/templates/"
printf '{%% for w in settings.wired %%}{{ w.addresses|join(",") }}{%% endfor %%}' > "$root/corpus/templates/loop"
printf '{%% set a = settings.hostname|upper %%}{{ a ~ a|replace("A", a)|indent(4) }}' > "$root/corpus/templates/set"
# Journals as the kernel leaves them, where it may be asked to: the head of each, with what was done last.
mkdir -p "$root/corpus/journal"
for options in '' '-O ^64bit' '-O ^metadata_csum' '-t ext3'; do
  rm -f j.img && truncate -s 24M j.img && mkfs.ext4 -q -b 1024 -J size=1 $options j.img || continue
  mkdir -p j && mount -o loop,data=journal j.img j 2> /dev/null || break
  for number in 1 2 3; do echo "$number" > "j/$number" && sync && rm -f "j/$((number - 1))"; done
  cp j.img pulled.img
  umount j
  debugfs -R 'dump <8> journal' pulled.img 2> /dev/null
  head -c 60000 journal > "$root/corpus/journal/$(echo "kernel$options" | tr -dc 'a-z0-9')"
done
