#!/usr/bin/env bash
# An EFI system partition of a real Debian, put together by a layout, judged, and started in an emulator by its
# firmware: loader, kernel and initial RAM disk come from the FAT, the root from the ext4 beside it.
#
# Needs root and, from Debian: debootstrap qemu-system-x86 ovmf systemd-boot-efi dosfstools
# Usage: scripts/esp-boot.sh [FOLDER]      the folder keeps the root for the next time
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
export PATH=$PWD/target/release:$PATH
work=${1:-$(mktemp -d)}
mkdir -p "$work"
cd "$work"
export XDG_STATE_HOME=$work/state

packages=systemd-sysv,linux-image-cloud-amd64,initramfs-tools,zstd
if [ ! -d tree/boot ]; then
  debootstrap --variant=minbase --include="$packages" bookworm tree http://deb.debian.org/debian > debootstrap.log 2>&1
fi
rm -rf esp && mkdir -p esp/EFI/BOOT esp/EFI/systemd esp/loader/entries esp/larkfell
cp /usr/lib/systemd/boot/efi/systemd-bootx64.efi esp/EFI/BOOT/BOOTX64.EFI
cp /usr/lib/systemd/boot/efi/systemd-bootx64.efi esp/EFI/systemd/
cp tree/boot/vmlinuz-* esp/larkfell/linux
cp tree/boot/initrd.img-* esp/larkfell/initrd.img
printf 'timeout 0\nconsole-mode keep\n' > esp/loader/loader.conf
printf 'title Larkfell hut\nlinux /larkfell/linux\ninitrd /larkfell/initrd.img\noptions root=/dev/vda2 rw console=ttyS0\n' \
  > esp/loader/entries/larkfell-hut-03.conf
tar -C tree --exclude='./boot/*' --exclude='./var/cache/apt/*' --exclude='./var/lib/apt/lists/*' -cf root.tar .
cat > layout.toml << 'TOML'
[medium]
scheme = "gpt"
[[partition]]
size = "200MiB"
type = "esp"
filesystem = "fat32"
label = "ESP"
[[partition.content]]
from = "esp"
[[partition]]
size = "rest"
filesystem = "ext4"
[[partition.content]]
from = "root.tar"
TOML
rm -f boot.img
pinewrit -q build layout.toml --to boot.img --size 1500MiB --yes
dd if=boot.img of=esp.img bs=1M skip=1 count=200 status=none
fsck.fat -n esp.img
pinewrit inspect boot.img

cp /usr/share/OVMF/OVMF_VARS_4M.fd vars.fd
timeout 600 qemu-system-x86_64 -machine q35 -m 1024 -smp 2 -nographic -no-reboot \
  -drive if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd -drive if=pflash,format=raw,file=vars.fd \
  -drive file=boot.img,format=raw,if=virtio -net none > serial.log 2>&1 < /dev/null &
emulator=$!
trap 'kill "$emulator" 2> /dev/null || true' EXIT
for _ in $(seq 120); do
  sleep 5
  if grep -q 'login:' serial.log; then
    echo 'it starts: the system asks for a login'
    exit 0
  fi
  kill -0 "$emulator" 2> /dev/null || break
done
tail -20 serial.log
echo 'it did not start'
exit 1
