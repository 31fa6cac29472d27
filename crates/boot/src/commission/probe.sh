asked() { echo "@@$*"; }
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; elif [ "$sudo" = yes ]; then sudo -n "$@"; else false; fi; }
is_at_work() {
  case $(systemctl is-system-running) in starting | initializing) return 0 ;; esac
  [ -e /run/cloud-init/enabled ] && [ ! -e /run/cloud-init/result.json ]
}
exec 2> /dev/null
PATH=$PATH:/usr/sbin:/sbin
export LC_ALL=C
left=$wait
while [ "$left" -gt 0 ] && is_at_work; do
  sleep 3
  left=$((left - 3))
done
# As long as it is at work, nothing is final.
if [ "$wait" -gt 0 ] && is_at_work; then
  echo "@@at-work"
  echo "@@end"
  exit
fi
asked hostname
cat /proc/sys/kernel/hostname
asked passwd
cat /etc/passwd
asked group
cat /etc/group
asked shadow
as_root cat /etc/shadow | sed -n -e 's/^\([^:]*\):[!*].*/\1 locked/p' -e 's/^\([^:]*\)::.*/\1 empty/p' \
  -e 's/^\([^:]*\):[^:!*].*/\1 set/p'
for user in $users; do
  asked keys "$user"
  file=$(grep "^$user:" /etc/passwd | cut -d : -f 6)/.ssh/authorized_keys
  if [ -r "$file" ]; then
    echo read
    cat "$file"
  elif keys=$(as_root cat "$file"); then
    echo read
    echo "$keys"
  fi
done
asked link
ip -o link show
asked address
ip -o addr show
asked route
ip route show
ip -6 route show
asked dns
cat /etc/resolv.conf
resolvectl dns
asked wireless
iw reg get
for folder in /sys/class/net/*/wireless; do
  name=${folder%/wireless}
  [ ! -e "$folder" ] || iw dev "${name##*/}" link
done
asked timezone
readlink /etc/localtime || cat /etc/timezone
asked locale
cat /etc/locale.conf /etc/default/locale
asked keyboard
cat /etc/default/keyboard /etc/vconsole.conf
asked swap
cat /proc/swaps
asked root
device=$(grep ' / / ' /proc/self/mountinfo | tail -n 1 | cut -d ' ' -f 3)
block=/sys/dev/block/$device
echo "path $(readlink "$block")"
echo "partition $(cat "$block/partition")"
echo "start $(cat "$block/start")"
echo "sectors $(cat "$block/size")"
[ ! -e "$block/partition" ] || block=$block/..
echo "disk $(cat "$block/size")"
echo "serial $(cat "$block/device/serial" || cat "$block/serial")"
echo "used $(df -Pk / | tail -n 1)"
asked table-identifiers
lsblk -rno PTUUID,PARTUUID
ls /dev/disk/by-partuuid
asked identifiers
lsblk -rno UUID || as_root blkid
ls /dev/disk/by-uuid
asked system
cat /etc/os-release
asked kernel
uname -srm
asked units
systemctl is-system-running
systemctl --failed --plain --no-legend
asked first-start
if [ -e /etc/systemd/system/pinewrit-first-start.service ]; then
  echo "service $(systemctl show -p ActiveState,SubState,Result pinewrit-first-start.service | tr '\n' ' ')"
fi
if [ -r /var/log/pinewrit-first-start.log ]; then
  echo "failed $(grep -c '^failed: ' /var/log/pinewrit-first-start.log)"
fi
echo "cloud-init $(cloud-init status | sed -n 's/^status: *//p')"
asked ssh
as_root sshd -T | grep -i '^passwordauthentication\|^kbdinteractiveauthentication'
asked clock
date +%s
asked end
