#!/usr/bin/env bash
# Makes a folder with nothing in it but a shell, the core utilities, cargo, rustc and cc: what a machine
# without any judge has. Prints a path of that folder alone.
set -euo pipefail
folder=${1:?folder}
mkdir -p "$folder"
for name in sh bash cargo rustc cc; do
  ln -sf "$(command -v "$name")" "$folder/$name"
done
if command -v dpkg > /dev/null; then
  files=$(dpkg -L coreutils | grep -E '^(/usr)?/s?bin/')
else
  files=$(for name in cat cp cut head ln ls mkdir mv rm seq sleep sort stat tail touch tr truncate wc; do command -v "$name"; done)
fi
for file in $files; do
  ln -sf "$file" "$folder/$(basename "$file")"
done
echo "$folder"
