#!/usr/bin/env python3
"""Starts the Debians that scripts/first-boot.sh has made in ways that a trial does not: without a cable, with several
interfaces, over the serial console, and with a power cut during the first start. scripts/trials.py has everything else.

Usage: first-boot.py [NAME...]     in the folder with the roots
"""
import json
import os
import re
import socket
import subprocess
import sys
import time

NAMES = ["networkd", "netplan", "networkmanager", "ifupdown", "dhcpcd", "cloud-init", "pulled"]
# After the login prompt a start has so many seconds left.
PATIENCE = 20
LAYOUT = """
[medium]
scheme = "gpt"
[[partition]]
size = "rest"
filesystem = "ext4"
[[partition.content]]
from = "{name}.tar"
"""
WORDS = "made up sample words"

FIRST = """
hostname = "larkfell-03"
timezone = "Europe/Vienna"
locale = "de_AT.UTF-8"
swap = "64MiB"
grow-root = true
{stock}
[[users]]
name = "warden"
uid = 1500
password-env = "HUT"
sudo = "without-password"
ssh-keys = ["{key}"]
[[users]]
name = "j.doe"
password-env = "HUT"
sudo = true
groups = ["dialout"]
ssh-keys = ["{key}"]
[ssh]
enabled = true
password-login = false
port = {port}
host-keys = true
[[wired]]
interface = "eth0"
addresses = ["10.0.2.15/24", "fd00:77::15/64"]
gateway = "10.0.2.2"
dns = ["10.0.2.3"]
[[wired]]
interface = "eth1"
addresses = ["10.78.3.10/24"]
mtu = 1400
{joined}
[autologin]
user = "warden"
console = true
[first-start]
commands = ["echo first >> /var/steps", {{ run = "echo online >> /var/steps", network = true }}]
[[file]]
text = "kept in the settings\\n"
to = "root:/etc/larkfell"
"""
JOINED = """
[[wired]]
interface = "eth1"
vlan = 20
addresses = ["10.79.3.10/24"]
[[wired]]
interface = "br0"
bridge = ["eth2"]
addresses = ["10.80.3.10/24"]
"""
SECOND = """
hostname = "larkfell-04"
locale = "nl_NL.UTF-8"
[[users]]
name = "hilda"
sudo = true
ssh-keys = ["{key}"]
[ssh]
enabled = true
port = {port}
host-keys = true
[[wired]]
interface = "eth0"
addresses = ["10.0.2.15/24"]
gateway = "10.0.2.2"
[autologin]
user = "hilda"
console = true
[first-start]
commands = ["echo first >> /var/steps", "echo second >> /var/steps"]
"""


class Unit:
    """A Debian in the emulator, with a shell on its serial line."""

    def __init__(self, name, image, port, cable, root="/dev/vda1"):
        self.name = name
        for kind in ["serial", "monitor"]:
            if os.path.exists(f"{name}.{kind}"):
                os.remove(f"{name}.{kind}")
        cards = []
        for index in range(3):
            forward = f",hostfwd=tcp:127.0.0.1:{port}-10.0.2.15:{port}" if index == 0 else ""
            cards += ["-netdev", f"user,id=n{index},restrict=on{forward}"]
            cards += ["-device", f"virtio-net-pci,netdev=n{index},id=c{index}"]
        self.process = subprocess.Popen(
            ["qemu-system-x86_64", "-m", "1024", "-smp", "1", "-display", "none", "-no-reboot", "-S",
             "-kernel", "vmlinuz", "-initrd", "initrd",
             "-append", f"root={root} rw console=ttyS0 net.ifnames=0",
             "-drive", f"file={image},format=raw,if=virtio",
             "-serial", f"unix:{name}.serial,server=on,wait=off",
             "-qmp", f"unix:{name}.monitor,server=on,wait=off", *cards],
            stdin=subprocess.DEVNULL, stdout=open(f"{name}.qemu", "w"), stderr=subprocess.STDOUT)
        self.log = open(f"{name}.log", "ab")
        self.serial = self.connect("serial")
        self.serial.settimeout(1)
        self.heard = ""
        monitor = self.connect("monitor").makefile("rw")
        monitor.readline()
        orders = [{"execute": "qmp_capabilities"}]
        if not cable:
            # Both ends: the guest sees no carrier.
            for index in range(3):
                orders.append({"execute": "set_link", "arguments": {"name": f"c{index}", "up": False}})
        for order in orders + [{"execute": "cont"}]:
            monitor.write(json.dumps(order) + "\n")
            monitor.flush()
            answer = json.loads(monitor.readline())
            while "event" in answer:
                answer = json.loads(monitor.readline())
            assert "return" in answer, answer
        self.power_on = time.time()

    def connect(self, kind):
        for _ in range(100):
            try:
                found = socket.socket(socket.AF_UNIX)
                found.connect(f"{self.name}.{kind}")
                return found
            except OSError:
                time.sleep(0.1)
        raise SystemExit(f"{self.name}: the emulator does not start")

    def listen(self):
        try:
            heard = self.serial.recv(65536)
        except (TimeoutError, ConnectionError):
            return
        if not heard:
            time.sleep(0.2)
        self.log.write(heard)
        self.log.flush()
        self.heard += heard.decode(errors="replace")

    def until(self, pattern, patience):
        end = time.time() + patience
        while time.time() < end:
            found = re.search(pattern, self.heard)
            if found:
                self.heard = self.heard[found.end():]
                return found
            if self.process.poll() is not None:
                return None
            self.listen()
        return None

    def login(self, patience=300):
        """Waits for the prompt, and for the shell behind it. The second value: when the prompt came."""
        if not self.until(r"login: ", patience):
            return None
        prompt = time.time()
        # A shell by automatic login, at once or after cloud-init has started it once more.
        if not self.until(r"\$ $", patience):
            return None
        self.shell()
        return prompt

    def shell(self):
        self.serial.sendall(b"stty -echo; PS1=; PS2=; export LC_ALL=C SYSTEMD_PAGER=\n")
        self.until(r"SYSTEMD_PAGER=", 10)
        self.run("true")

    def run(self, command, patience=60):
        mark = f"m{time.time_ns()}"
        self.serial.sendall(f"echo {mark}'a'; {command}; echo {mark}'b'\n".encode())
        found = self.until(rf"{mark}a\r?\n(?s:(.*?)){mark}b", patience)
        return found.group(1).replace("\r", "").strip() if found else None

    def running(self, patience):
        """The state of the start, once it is over, and when that was."""
        end = time.time() + patience
        state = None
        while time.time() < end:
            # Briefly: a console that is started anew takes the question with it.
            state = self.run("systemctl is-system-running", 8)
            # What programs print on the console meanwhile is not part of the answer.
            state = state.split("\n")[-1] if state else state
            if state not in ["initializing", "starting", "", None]:
                break
            time.sleep(1)
        return state, time.time()

    def off(self):
        self.serial.sendall(b"sudo -n systemctl poweroff || true\n")
        end = time.time() + 90
        while self.process.poll() is None and time.time() < end:
            self.listen()
        if self.process.poll() is None:
            print("  BAD   it does not switch off")
            self.process.kill()
        self.process.wait()


class Judge:
    def __init__(self, name):
        self.name, self.bad = name, 0

    def must(self, what, found, expected):
        if found == expected:
            print(f"  good  {what}: {expected}", flush=True)
        else:
            print(f"  BAD   {what}: expected {expected!r}, found {found!r}", flush=True)
            self.bad += 1

    def shell(self, unit, command, expected, patience=1):
        """What the command prints, within some seconds."""
        end = time.time() + patience
        while True:
            found = unit.run(command)
            if found == expected or time.time() > end:
                break
            time.sleep(2)
        self.must(command, found, expected)

    def start(self, unit, what, patience=PATIENCE):
        prompt = unit.login()
        if prompt is None:
            print(f"  BAD   {what}: nobody is logged in")
            self.bad += 1
            return False
        state, end = unit.running(300)
        seconds = end - prompt
        print(f"        {what}: prompt {prompt - unit.power_on:.0f} s after power-on, {state} {seconds:.0f} s later", flush=True)
        self.must(what, state, "running")
        if state != "running":
            print(unit.run("systemctl --failed --no-legend"))
        self.must(f"{what}, in {patience} s", seconds <= patience, True)
        if seconds > patience:
            print(unit.run("systemd-analyze blame --no-pager | head -5"))
        return True


def pinewrit(*words):
    return subprocess.run(["pinewrit", *words], check=True, stdout=subprocess.PIPE, text=True).stdout


def configure(image, name, text, intake):
    with open(f"{name}.toml", "w") as out:
        out.write(text)
    told = pinewrit("--json", "-q", "configure", image, "--yes",
                    "--settings", f"{name}.toml", "--intake", intake)
    result = json.loads(told.splitlines()[-1])
    for note in result.get("notes", []):
        print(f"  note  {note}")
    with open(f"{name}.known", "w") as out:
        out.write(result["host_key"]["known_hosts"] + "\n")


def ssh(name, port, host, user, command):
    done = subprocess.run(
        ["ssh", "-p", str(port), "-i", "key", "-o", f"UserKnownHostsFile={name}.known",
         "-o", f"HostKeyAlias=[{host}.local]:{port}", "-o", "StrictHostKeyChecking=yes",
         "-o", "BatchMode=yes", "-o", "ConnectTimeout=30", f"{user}@127.0.0.1", command],
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    return done.stdout.strip()


def judge(name, port):
    print(name, flush=True)
    judge = Judge(name)
    intake = "cloud-init" if name == "cloud-init" else "rootfs"
    image = f"{name}.img"
    with open(f"{name}.layout.toml", "w") as out:
        out.write(LAYOUT.format(name=name))
    if os.path.exists(image):
        os.remove(image)
    open(f"{name}.log", "w").close()
    pinewrit("-q", "build", f"{name}.layout.toml", "--to", image, "--size", "3GiB", "--yes")
    os.truncate(image, 4 << 30)
    key = open("key.pub").read().strip()
    has_joined = name != "dhcpcd"
    # cloud-init itself takes its time, and holds the start as long.
    patience = 120 if intake == "cloud-init" else PATIENCE
    values = {"key": key, "port": port, "stock": "", "joined": JOINED if has_joined else ""}
    configure(image, name, FIRST.format(**values), intake)

    # The first start is without a cable: nothing may wait for one.
    unit = Unit(name, image, port, cable=False)
    if judge.start(unit, "first start without a cable", patience):
        judge.shell(unit, "id -un", "warden")
        judge.shell(unit, "cat /var/steps", "first", 30)
    unit.off()

    unit = Unit(name, image, port, cable=True)
    if judge.start(unit, "start with a cable"):
        address = "ip -4 -br addr show {} | grep -o '10[.][0-9./]*'"
        judge.shell(unit, address.format("eth0"), "10.0.2.15/24")
        judge.shell(unit, address.format("eth1"), "10.78.3.10/24")
        mtu = "cat /sys/class/net/eth1/mtu"
        if name == "dhcpcd":
            # It limits the routes, and leaves the interface as it is.
            mtu = "ip route show dev eth1 | grep -o 'mtu [0-9]*' | cut -d' ' -f2 | head -1"
        judge.shell(unit, mtu, "1400")
        if has_joined:
            judge.shell(unit, address.format("eth1.20"), "10.79.3.10/24")
            judge.shell(unit, address.format("br0"), "10.80.3.10/24")
            judge.shell(unit, "ls /sys/class/net/br0/brif", "eth2")
        judge.shell(unit, "id -u", "1500")
        judge.shell(unit, "sudo -n id -un", "root")
        judge.shell(unit, "sudo -k; sudo grep -c '^warden:[$]' /etc/shadow", "1")
        judge.shell(unit, "cat /etc/larkfell", "kept in the settings")
        judge.shell(unit, "cat /var/steps | tr '\\n' ' '", "first online", 60)
        judge.shell(unit, "locale -a | grep de_AT", "de_AT.utf8", 60)
        judge.shell(unit, "date -d 2026-01-01 +%Z", "CET")
        judge.shell(unit, "/sbin/swapon --show=SIZE --noheadings | tr -d ' '", "64M")
        judge.shell(unit, "[ $(df --output=size -BM / | tail -1 | tr -d ' M') -gt 3700 ] && echo grown", "grown")
        judge.must("host name by SSH", ssh(name, port, "larkfell-03", "warden", "hostname"), "larkfell-03")
        judge.must("LANG by SSH", ssh(name, port, "larkfell-03", "warden", "echo $LANG"), "de_AT.UTF-8")
        asked = f"echo '{WORDS}' | sudo -S -p '' id -un"
        judge.must("sudo with a password", ssh(name, port, "larkfell-03", "j.doe", asked), "root")
        judge.must("sudo without it", ssh(name, port, "larkfell-03", "j.doe", "sudo -n id -un"), "")
    unit.off()
    return judge.bad


# The board loses its power so many seconds after its system has said hello.
CUTS = [1, 4, 9]


def pulled(name, port):
    """A card whose board loses its power during the first start: configured anew, it starts as usual."""
    print(name, flush=True)
    judge = Judge(name)
    image = f"{name}.img"
    values = {"key": open("key.pub").read().strip(), "port": port, "stock": "", "joined": ""}
    open(f"{name}.log", "w").close()
    with open(f"{name}.layout.toml", "w") as out:
        out.write(LAYOUT.format(name="networkd"))
    for cut in CUTS:
        if os.path.exists(image):
            os.remove(image)
        pinewrit("-q", "build", f"{name}.layout.toml", "--to", image, "--size", "3GiB", "--yes")
        os.truncate(image, 4 << 30)
        configure(image, name, FIRST.format(**values), "rootfs")
        unit = Unit(name, image, port, cable=True)
        if not unit.until(r"Welcome to", 300):
            judge.must("the first start", "it does not begin", "it begins")
            return judge.bad
        end = time.time() + cut
        while time.time() < end:
            unit.listen()
        unit.process.kill()
        unit.process.wait()
        found = subprocess.run(["pinewrit", "check", image], stderr=subprocess.PIPE, text=True)
        judge.must(f"cut off after {cut} s", "was cut off" in found.stderr, True)
        print("        " + next(line for line in found.stderr.splitlines() if "cut off" in line).strip())
        configure(image, name, SECOND.format(**values), "rootfs")
        judge.must("checked", subprocess.run(["pinewrit", "-q", "check", image], stdout=subprocess.DEVNULL).returncode, 0)
        unit = Unit(name, image, port, cable=True)
        if judge.start(unit, "configured anew"):
            judge.shell(unit, "hostname", "larkfell-04")
            judge.shell(unit, "id -un", "hilda")
            judge.shell(unit, "id warden 2>&1 | grep -o 'no such user'", "no such user")
            judge.must("host name by SSH", ssh(name, port, "larkfell-04", "hilda", "hostname"), "larkfell-04")
        unit.off()
    return judge.bad


def main():
    os.environ["HUT"] = WORDS
    os.environ["XDG_STATE_HOME"] = os.path.abspath("state")
    names = sys.argv[1:] or NAMES
    unknown = [name for name in names if name not in NAMES]
    if unknown:
        raise SystemExit(f"not one of {', '.join(NAMES)}: {', '.join(unknown)}")
    judges = {"pulled": pulled}
    bad = {name: judges.get(name, judge)(name, 2200 + NAMES.index(name)) for name in names}
    for name, count in bad.items():
        print(f"{name}: {count or 'nothing'} bad")
    sys.exit(any(bad.values()))


main()
