#!/usr/bin/env bash
# Makes a Debian through a mounted loop device, has it install 200 packages, and changes every directory of it
# twice, judged by `e2fsck` (`crates/ext4/tests/ran.rs`). The kernel makes directories in other ways than the
# tools that fill an image.
#
# Needs root, a package server, 4 GB, and from Debian: debootstrap, e2fsprogs, mount.
# Usage: scripts/ran-root.sh [MIRROR]
set -euo pipefail
cd "$(dirname "$0")/.."
repository=$PWD
mirror=${1:-http://deb.debian.org/debian}
work=$(mktemp -d -p "${TMPDIR:-/var/tmp}")
cleanup() {
  for at in root/proc root/dev root; do
    mountpoint -q "$work/$at" && umount "$work/$at"
  done
  rm -rf "$work"
}
trap cleanup EXIT
cd "$work"

truncate -s 4G root.img && mke2fs -q -F -t ext4 root.img
mkdir root && mount -o loop root.img root
debootstrap --variant=minbase bookworm root "$mirror" > debootstrap.log 2>&1 || { tail debootstrap.log; exit 1; }
cp /etc/resolv.conf root/etc/
mount --bind /dev root/dev && mount -t proc proc root/proc
export DEBIAN_FRONTEND=noninteractive
chroot root apt-get update -qq
chroot root apt-get install -y -qq --no-install-recommends vim-nox git python3-numpy nginx texlive-base perl-doc \
  openssh-server rsync mc htop gdb build-essential cmake > install.log 2>&1 || { tail install.log; exit 1; }
grep -c '^Setting up' install.log
umount root/proc root/dev root

cd "$repository"
PINEWRIT_RAN_ROOT=$work/root.img cargo test -q -p pinewrit-ext4 --test ran -- --nocapture
