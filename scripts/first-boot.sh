#!/usr/bin/env bash
# The last judge: a Debian that is built, configured and started in an emulator, and logged into with
# the host key that was told beforehand. Once for each intake.
#
# Needs root and, from Debian: debootstrap qemu-system-x86 openssh-client
# Usage: scripts/first-boot.sh [FOLDER]      the folder keeps the root for the next time
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
export PATH=$PWD/target/release:$PATH
work=${1:-$(mktemp -d)}
mkdir -p "$work"
cd "$work"
export XDG_STATE_HOME=$work/state HUT='made up sample words'
port=2222

packages=systemd-sysv,openssh-server,sudo,systemd-resolved,systemd-timesyncd,dbus,libpam-systemd,iproute2
packages+=,locales,linux-image-cloud-amd64,initramfs-tools,zstd
if [ ! -d tree/boot ]; then
  debootstrap --variant=minbase --include="$packages" bookworm tree http://deb.debian.org/debian > debootstrap.log 2>&1
  # These cannot be installed as early as that.
  rm -f tree/etc/resolv.conf
  cp /etc/resolv.conf tree/etc/resolv.conf
  DEBIAN_FRONTEND=noninteractive chroot tree sh -c \
    'apt-get update && apt-get install -y --no-install-recommends cloud-init netplan.io' >> debootstrap.log 2>&1
fi
cp tree/boot/vmlinuz* vmlinuz
cp tree/boot/initrd* initrd
ln -sf ../run/systemd/resolve/stub-resolv.conf tree/etc/resolv.conf
tar -C tree --exclude='./boot/initrd*' --exclude='./var/cache/apt/*' --exclude='./var/lib/apt/lists/*' -cf root.tar .
cat > layout.toml << 'TOML'
[medium]
scheme = "gpt"
[[partition]]
size = "rest"
filesystem = "ext4"
[[partition.content]]
from = "root.tar"
TOML
pinewrit -q build layout.toml --to base.img --size 3GiB --yes > /dev/null

[ -f key ] || ssh-keygen -q -t ed25519 -N '' -f key
cat > hut.toml << TOML
hostname = "larkfell-03"
timezone = "Europe/Vienna"
locale = "de_AT.UTF-8"
keyboard = "de"
swap = "64MiB"
grow-root = true
[[users]]
name = "warden"
sudo = true
ssh-keys = ["$(cat key.pub)"]
[[users]]
name = "j.doe"
password-env = "HUT"
sudo = true
ssh-keys = ["$(cat key.pub)"]
[ssh]
enabled = true
password-login = false
port = $port
host-keys = true
[[wired]]
interface = "eth0"
addresses = ["10.0.2.15/24"]
gateway = "10.0.2.2"
dns = ["10.0.2.3"]
[[wired]]
interface = "eth0"
vlan = 20
addresses = ["10.79.3.10/24"]
[first-start]
commands = ["touch /var/it-is-up"]
TOML

# A file system that was made and grown here, on a medium that has more room: the kernel grows it once more
# while it is mounted.
pinewrit -q table create small.img --size 302MiB --scheme gpt > /dev/null
pinewrit -q table add small.img --type linux --size rest > /dev/null
pinewrit -q format small.img 1 --as ext4 > /dev/null
rm -f data.img
pinewrit -q write small.img --to data.img --size 1GiB --grow > /dev/null
truncate -s 3G data.img
rm small.img
more='mount /dev/vdb1 /mnt && echo , + | sfdisk -q --force --no-reread -N 1 /dev/vdb && partx -u /dev/vdb &&
  resize2fs /dev/vdb1 && umount /mnt && e2fsck -fn /dev/vdb1 &&
  test "$(dumpe2fs -h /dev/vdb1 2> /dev/null | sed -n "s/^Block count: *//p")" -gt 700000'

emulator=
trap '[ -z "$emulator" ] || kill "$emulator" 2> /dev/null || true' EXIT

# on USER COMMAND: over SSH, with the host key that was told.
on() {
  ssh -p $port -i key -o UserKnownHostsFile=known_hosts -o "HostKeyAlias=[larkfell-03.local]:$port" \
    -o StrictHostKeyChecking=yes -o BatchMode=yes -o ConnectTimeout=20 "$1@127.0.0.1" "$2" 2> ssh.log
}

# must WORDS USER COMMAND: what it prints has to be these words.
must() {
  local found
  found=$(on "$2" "$3" || true)
  if [ "$found" = "$1" ]; then
    echo "  good  $2: $1"
  else
    echo "  BAD   $2: expected '$1', found '$found' ($3)"
    bad=1
  fi
}

bad=0
for intake in rootfs cloud-init; do
  echo "$intake"
  cp --sparse=always base.img boot.img
  truncate -s 4G boot.img
  cp --sparse=always data.img grown.img
  pinewrit --json -q configure boot.img --settings hut.toml --intake $intake > told.json
  python3 -c 'import json; print([json.loads(line) for line in open("told.json")][-1]["host_key"]["known_hosts"])' \
    > known_hosts
  qemu-system-x86_64 -m 1024 -smp 1 -nographic -no-reboot -kernel vmlinuz -initrd initrd \
    -append 'root=/dev/vda1 rw console=ttyS0 net.ifnames=0' -drive file=boot.img,format=raw,if=virtio \
    -drive file=grown.img,format=raw,if=virtio \
    -netdev "user,id=n,restrict=on,hostfwd=tcp:127.0.0.1:$port-10.0.2.15:$port" \
    -device virtio-net-pci,netdev=n > serial.log 2>&1 < /dev/null &
  emulator=$!
  # cloud-init answers before it has finished.
  for _ in $(seq 60); do
    sleep 5
    if [ "$(on warden 'systemctl is-system-running --wait' || true)" != "" ]; then break; fi
  done
  must running warden 'systemctl is-system-running'
  must larkfell-03 warden hostname
  must root warden 'sudo -n id -un'
  must root j.doe "echo '$HUT' | sudo -S -p '' id -un"
  must de_AT.UTF-8 warden 'echo $LANG'
  must CET warden 'TZ= date +%Z > /dev/null; date -d 2026-01-01 +%Z'
  must '64M' warden "/sbin/swapon --show=SIZE --noheadings | tr -d ' '"
  must '10.79.3.10/24' warden "ip -br addr show eth0.20 | grep -o '10[.][0-9./]*'"
  must yes warden 'test -e /var/it-is-up && echo yes'
  must yes warden '[ "$(df --output=size -BM / | tail -1 | tr -d " M")" -gt 3700 ] && echo yes'
  must yes warden "sudo sh -c '$more' > /dev/null 2>&1 && echo yes"
  kill "$emulator" 2> /dev/null || true
  wait "$emulator" 2> /dev/null || true
  emulator=
done
exit $bad
