#!/usr/bin/env bash
# What a trial does not do: Debians that start without a cable and with several interfaces, one for each network manager
# and for cloud-init, and cards whose boards lose their power during the first start. scripts/trials.py is the judge of
# everything else.
#
# Needs root and, from Debian: debootstrap qemu-system-x86 openssh-client python3
# Usage: scripts/first-boot.sh [FOLDER [NAME...]]      the folder keeps the roots for the next time
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
export PATH=$PWD/target/release:$PATH
boots=$PWD/scripts/first-boot.py
work=${1:-$(mktemp -d)}
shift || true
mkdir -p "$work"
cd "$work"

packages=systemd-sysv,openssh-server,sudo,systemd-resolved,systemd-timesyncd,dbus,libpam-systemd,iproute2
packages+=,locales,linux-image-cloud-amd64,initramfs-tools,zstd
if [ ! -e base.done ]; then
  rm -rf base
  debootstrap --variant=minbase --include="$packages" bookworm base http://deb.debian.org/debian > base.log 2>&1
  rm -f base/etc/resolv.conf
  cp /etc/resolv.conf base/etc/resolv.conf
  chroot base apt-get update >> base.log 2>&1
  touch base.done
fi

names=" $* "
# root NAME PACKAGE...: the base, and what manages its networks.
root() {
  local name=$1
  shift
  [ -e "$name.tar" ] && return
  case "$names" in
    "  " | *" $name "*) ;;
    *" pulled "*) [ "$name" = networkd ] || return 0 ;;
    *) return 0 ;;
  esac
  rm -rf "$name"
  cp -a base "$name"
  [ $# -eq 0 ] || DEBIAN_FRONTEND=noninteractive chroot "$name" apt-get install -y --no-install-recommends "$@" > "$name.log" 2>&1
  cp "$name"/boot/vmlinuz* vmlinuz
  cp "$name"/boot/initrd* initrd
  ln -sf ../run/systemd/resolve/stub-resolv.conf "$name/etc/resolv.conf"
  tar -C "$name" --exclude='./boot/initrd*' --exclude='./var/cache/apt/*' --exclude='./var/lib/apt/lists/*' \
    -cf "$name.part" .
  mv "$name.part" "$name.tar"
  rm -rf "$name"
}
root networkd
root netplan netplan.io
root cloud-init netplan.io cloud-init
root networkmanager network-manager
root ifupdown ifupdown isc-dhcp-client vlan bridge-utils ifenslave
root dhcpcd dhcpcd5
[ -f key ] || ssh-keygen -q -t ed25519 -N '' -f key
exec python3 "$boots" "$@"
