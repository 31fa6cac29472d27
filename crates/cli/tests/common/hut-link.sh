#!/bin/sh
# A link with two hosts, each in a network namespace of its own, and a third one from which commands are given. Called
# by a test within `unshare --net --mount`: hut-link.sh FOLDER COMMAND...
# FOLDER has: host_key, authorized_keys. The first host has a responder for multicast DNS and an SSH server, the second
# one a responder alone.
set -e
folder=$1
shift
# From a run before.
rm -f "$folder/sshd.log"
mkdir -p /run/netns
mount -t tmpfs tmpfs /run/netns
ip link set lo up
ip link add link0 type bridge
ip addr add 10.77.9.1/24 dev link0
ip link set link0 up
for number in 1 2; do
  ip netns add "hut$number"
  ip link add "port$number" type veth peer name eth0 netns "hut$number"
  ip link set "port$number" master link0 up
  ip -n "hut$number" link set lo up
  ip -n "hut$number" link set eth0 address "02:00:00:77:09:0$number"
  ip -n "hut$number" addr add "10.77.9.1$number/24" dev eth0
  ip -n "hut$number" link set eth0 up
done
ip -n hut1 route add default via 10.77.9.1

cat > "$folder/host.sh" <<EOF
set -e
name=\$1
hostname "\$name"
mkdir -p /run/avahi-daemon /run/sshd
mount -t tmpfs tmpfs /run/avahi-daemon
printf '[server]\nuse-ipv6=no\nallow-interfaces=eth0\nenable-dbus=no\n[publish]\npublish-workstation=no\n' > $folder/\$name.conf
avahi-daemon --no-drop-root --no-chroot --no-rlimits -f $folder/\$name.conf > $folder/\$name.log 2>&1 &
[ -n "\$2" ] || { wait; exit; }
# The accounts of this host alone.
for file in passwd group shadow; do cp /etc/\$file $folder/\$file; done
echo 'warden:x:1777:1777::$folder/home:/bin/sh' >> $folder/passwd
echo 'warden:x:1777:' >> $folder/group
echo 'warden:*:20000:0:99999:7:::' >> $folder/shadow
mkdir -p $folder/home/.ssh
cp $folder/authorized_keys $folder/home/.ssh/
chmod 755 $folder $folder/home $folder/home/.ssh
chown -R 1777:1777 $folder/home
for file in passwd group shadow; do mount --bind $folder/\$file /etc/\$file; done
echo 'LANG=de_AT.UTF-8' > $folder/locale
touch /etc/default/locale
mount --bind $folder/locale /etc/default/locale
chmod 600 $folder/host_key
printf 'HostKey $folder/host_key\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\nStrictModes no\nPidFile none\n' \
  > $folder/sshd.conf
exec /usr/sbin/sshd -D -e -f $folder/sshd.conf > $folder/sshd.log 2>&1
EOF
ip netns exec hut1 unshare --mount --uts sh "$folder/host.sh" "$HUT_1" ssh &
first=$!
ip netns exec hut2 unshare --mount --uts sh "$folder/host.sh" "$HUT_2" &
second=$!
# Nothing of it stays, however the commands end.
clean_up() {
  status=$?
  set +e
  kill $first $second 2> /dev/null
  for number in 1 2; do ip netns pids "hut$number" | xargs -r kill 2> /dev/null; done
  exit $status
}
trap clean_up EXIT
tries=0
until grep -q 'Server listening' "$folder/sshd.log" 2> /dev/null || [ $tries -gt 100 ]; do
  sleep 0.1
  tries=$((tries + 1))
done
"$@"
