#!/usr/bin/env python3
"""Debians that are built, configured and tried: they come up, and are as their settings say.

A root file system for each network manager, and one with cloud-init, is made by mmdebstrap, put on a medium with a
boot loader, configured, and started by `pinewrit trial`, twice where time allows. Then one thing at a time is wrong, and
the trial must name it.

Needs root and, from Debian: mmdebstrap qemu-system-x86 ovmf openssh-client
Usage: scripts/trials.py [--few] [--only TEXT] [FOLDER]     the folder keeps the roots for the next time
"""
import concurrent.futures, functools, glob, json, os, shutil, subprocess, sys, time

import workplace

options, program, _ = workplace.begin("few", "trials")
os.environ["HUT"] = "made up sample words"
# Tests may run beside it.
PATIENCE = 1500 if options.few else 600

PACKAGES = ["systemd-sysv", "openssh-server", "sudo", "systemd-resolved", "systemd-timesyncd", "dbus", "libpam-systemd",
            "iproute2", "locales", "util-linux", "linux-image-cloud-amd64", "initramfs-tools", "zstd", "systemd-boot-efi"]
# What is on no medium need not be written; and the machine has one kind of disk.
QUICK = ["--dpkgopt=force-unsafe-io", "--dpkgopt=path-exclude=/usr/share/doc/*", "--dpkgopt=path-exclude=/usr/share/man/*",
         '--setup-hook=mkdir -p "$1/etc/initramfs-tools/conf.d"',
         '--setup-hook=echo MODULES=list > "$1/etc/initramfs-tools/conf.d/hut"',
         '--setup-hook=echo virtio_pci > "$1/etc/initramfs-tools/modules"',
         '--setup-hook=echo virtio_blk >> "$1/etc/initramfs-tools/modules"']
MANAGERS = {
    "networkd": [],
    "cloud-init": ["netplan.io", "cloud-init"],
    "netplan": ["netplan.io"],
    "networkmanager": ["network-manager"],
    "ifupdown": ["ifupdown", "isc-dhcp-client", "vlan", "bridge-utils", "ifenslave"],
    "dhcpcd": ["dhcpcd5"],
}
# Of the few, one root serves both intakes, and nobody waits for a locale that is made in an emulator.
FEW = ["cloud-init", "rootfs"]
ROOT_OF_FEW = "cloud-init"
LOCALE = "C.UTF-8" if options.few else "de_AT.UTF-8"
# What a small image needs of cloud-init; all of it takes minutes in an emulator.
MODULES = """datasource_list: [ NoCloud, None ]
cloud_init_modules: [ seed_random, bootcmd, write-files, growpart, resizefs, mounts, set_hostname, update_hostname, update_etc_hosts, users-groups, ssh ]
cloud_config_modules: [ keyboard, locale, set-passwords, timezone, runcmd ]
cloud_final_modules: [ scripts-user ]
"""
LAYOUT = """
[medium]
scheme = "gpt"
[[partition]]
size = "128MiB"
type = "esp"
filesystem = "fat32"
label = "{label}"
[[partition.content]]
from = "{name}.esp"
to = "/"
[[partition]]
size = "rest"
filesystem = "ext4"
label = "hut-root"
[[partition.content]]
from = "{name}.tar"
"""
SETTINGS = """
hostname = "larkfell-03"
timezone = "Europe/Vienna"
locale = "{locale}"
swap = "64MiB"
grow-root = true
[[users]]
name = "warden"
uid = 1500
password-env = "HUT"
sudo = "without-password"
groups = ["dialout"]
ssh-keys = ["{key}"]
[ssh]
enabled = true
password-login = false
port = 2222
host-keys = true
[[wired]]
interface = "eth0"
addresses = ["10.77.3.10/24", "fd00:77::10/64"]
gateway = "10.77.3.1"
dns = ["10.77.3.53"]
[first-start]
commands = ["echo first >> /var/steps"]
"""


def run(*command, **more):
    return subprocess.run(command, check=True, stdin=subprocess.DEVNULL, **more)


def pinewrit(*words):
    return run(program, "-q", *words, stdout=subprocess.PIPE, text=True).stdout


def put(path, content):
    os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
    with open(path, "w") as file:
        file.write(content)


def root(name):
    """Its root file system as an archive, and a folder with kernel, initrd and loader for its ESP."""
    if os.path.exists(f"{name}.tar"):
        return
    shutil.rmtree(name, ignore_errors=True)
    with open(f"{name}.log", "w") as log:
        run("mmdebstrap", "--variant=minbase", *QUICK, "--include=" + ",".join(PACKAGES + MANAGERS[name]), "bookworm", name,
            "http://deb.debian.org/debian", stdout=log, stderr=log)
    if os.path.lexists(f"{name}/etc/resolv.conf"):
        os.remove(f"{name}/etc/resolv.conf")
    os.symlink("../run/systemd/resolve/stub-resolv.conf", f"{name}/etc/resolv.conf")
    put(f"{name}/etc/fstab", "LABEL=hut-root / ext4 defaults 0 1\n")
    if name == "cloud-init":
        put(f"{name}/etc/cloud/cloud.cfg.d/90-huts.cfg", MODULES if options.few else "datasource_list: [ NoCloud, None ]\n")
    esp = f"{name}.esp"
    shutil.rmtree(esp, ignore_errors=True)
    os.makedirs(f"{esp}/EFI/BOOT")
    shutil.copy(f"{name}/usr/lib/systemd/boot/efi/systemd-bootx64.efi", f"{esp}/EFI/BOOT/BOOTX64.EFI")
    shutil.copy(glob.glob(f"{name}/boot/vmlinuz-*")[0], f"{esp}/vmlinuz")
    shutil.copy(glob.glob(f"{name}/boot/initrd.img-*")[0], f"{esp}/initrd.img")
    put(f"{esp}/loader/loader.conf", "timeout 0\n")
    put(f"{esp}/loader/entries/hut.conf", entry())
    run("tar", "-C", name, "--exclude=./boot/*", "--exclude=./var/cache/apt/*", "--exclude=./var/lib/apt/lists/*",
        "-cf", f"{name}.part", ".")
    os.rename(f"{name}.part", f"{name}.tar")
    shutil.rmtree(name)


def entry(root="LABEL=hut-root", initrd="/initrd.img"):
    initrd = f"initrd {initrd}\n" if initrd else ""
    return f"title Hut\nlinux /vmlinuz\n{initrd}options root={root} rw console=ttyS0\n"


def medium(name, of=None):
    """A card file with this system, written with its settings; what was put on it is in the ledger."""
    of = of or name
    image, layout = f"{name}.img", f"{name}.layout.toml"
    for path in [image, f"{name}.os.img"]:
        if os.path.exists(path):
            os.remove(path)
    put(layout, LAYOUT.format(name=of, label="CIDATA" if of == "cloud-init" else "ESP"))
    with open("key.pub") as key:
        put(f"{name}.toml", SETTINGS.format(key=key.read().strip(), locale=LOCALE))
    intake = "cloud-init" if name == "cloud-init" else "rootfs"
    pinewrit("build", layout, "--to", f"{name}.os.img", "--size", "2500MiB", "--yes")
    pinewrit("write", f"{name}.os.img", "--to", image, "--size", "4GiB", "--yes", "--settings", f"{name}.toml",
             "--intake", intake)
    os.remove(f"{name}.os.img")


def trial(image, name, *more):
    """What came of a trial: its exit code, its result, what was said."""
    words = ["trial", image, "--timeout", str(PATIENCE), "--log", f"{image}.log", "--settings", f"{name}.toml", "--key", "key",
             *more]
    if options.few:
        # Two machines at once.
        words += ["--cores", "1"]
    begun = time.time()
    done = subprocess.run([program, "--json", *words], stdin=subprocess.DEVNULL, capture_output=True, text=True)
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    result = next((line for line in lines if line["event"] == "result"), {})
    said = next((line for line in lines if line["event"] == "error"), {})
    return done.returncode, result, said, time.time() - begun


bad = []


def must(name, code, expected, why, seconds):
    last = []
    if os.path.exists(f"{name}.img.log"):
        with open(f"{name}.img.log") as log:
            last = log.read().splitlines()[-3:]
    is_good = code == expected[0] and expected[1] in why
    print(f"{'good' if is_good else 'BAD ':5} {name:28} exit {code}, {seconds:5.0f} s  {why}", flush=True)
    if not is_good:
        bad.append(name)
        print("      expected", expected, *last, sep="\n      ", flush=True)


def comes_up(name):
    twice = [] if options.few else ["--second-boot"]
    code, result, said, seconds = trial(f"{name}.img", name, *twice)
    differing = [point for point in result.get("points", []) if point["met"] != "yes"]
    judged = [point["point"] for point in result.get("points", []) if point["met"] == "yes"]
    missing = [one for one in ["host-key", "host-name", "user", "keys", "address", "route", "locale", "swap", "root-size",
                               "failed-units", "first-start"] if one not in judged]
    why = f"{len(judged)} points" if not missing else f"not compared or differing: {missing} {said}"
    must(name, code, (0, "points"), why, seconds)
    for point in differing:
        if point["met"] != "not-asked":
            print("       ", json.dumps(point), flush=True)


def again():
    """A medium that gets other settings: nothing of the former ones is left, and what is new is there."""
    image = "again.img"
    run("cp", "--sparse=always", "networkd.img", image)
    text = open("networkd.toml").read()
    for former, later in [("larkfell-03", "larkfell-04"), ('"warden"', '"hilda"'), ("de_AT", "nl_NL"), ("uid = 1500\n", ""),
                          ('swap = "64MiB"\n', ""), ("Europe/Vienna", "Europe/Amsterdam")]:
        text = text.replace(former, later)
    put("again.toml", text)
    pinewrit("configure", image, "--yes", "--settings", "again.toml", "--intake", "rootfs")
    code, result, said, seconds = trial(image, "again", "--second-boot")
    must("again", code, (0, "points"), f"{len(result.get('points', []))} points {said}", seconds)
    accounts = pinewrit("files", "read", image, "2:/etc/passwd")
    must("again, without the former user", int("warden" in accounts), (0, ""), "", 0)


def copies():
    """A clone on a smaller card, and a saved image that is written again: as new, each with settings of its own."""
    for path in ["clone.img", "saved.img.zst", "saved.img.zst.sha256", "written.img"]:
        if os.path.exists(path):
            os.remove(path)
    text = open("networkd.toml").read()
    for name, host in [("clone", "larkfell-05"), ("written", "larkfell-06")]:
        put(f"{name}.toml", text.replace("larkfell-03", host))
    pinewrit("clone", "networkd.img", "--to", "clone.img", "--size", "2GiB", "--as-new", "--settings", "clone.toml", "--intake",
             "rootfs", "--yes")
    pinewrit("save", "networkd.img", "--to", "saved.img.zst", "--as-new", "--shrink")
    pinewrit("write", "saved.img.zst", "--to", "written.img", "--size", "4GiB", "--yes", "--settings", "written.toml",
             "--intake", "rootfs")
    for name in ["clone", "written"]:
        code, result, said, seconds = trial(f"{name}.img", name)
        must(name, code, (0, "points"), f"{len(result.get('points', []))} points {said}", seconds)


def copy(name):
    run("cp", "--sparse=always", f"{GOOD}.img", f"{name}.img")
    return f"{name}.img"


def no_root(name, text, wanted):
    image = copy(name)
    put(f"{name}.conf", text)
    pinewrit("files", "put", image, "1:/loader/entries/hut.conf", f"{name}.conf", "--yes")
    code, result, said, seconds = trial(image, GOOD)
    likely = " ".join(fact["value"] for fact in said.get("facts", []) if fact["name"] == "likely")
    must(name, code, (5, wanted), f"{said.get('what')}: {likely}", seconds)
    os.remove(image)


def other_key():
    image = copy("other-key")
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "other")
    pinewrit("files", "put", image, "2:/etc/ssh/ssh_host_ed25519_key", "other", "--mode", "0600", "--yes")
    pinewrit("files", "put", image, "2:/etc/ssh/ssh_host_ed25519_key.pub", "other.pub", "--yes")
    code, result, said, seconds = trial(image, GOOD)
    must("other-key", code, (6, "another host key"), str(said.get("what")), seconds)


# One thing at a time, on copies of a good medium.
GOOD = "rootfs" if options.few else "networkd"
WRONG = [
    other_key,
    lambda: no_root("wrong-root", entry("LABEL=other-root"), "LABEL=other-root"),
    lambda: no_root("no-initrd", entry(initrd=None), "initrd"),
]


def all_of(works):
    """Does them, two at a time: what a computer of two processors can emulate."""
    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        for done in [pool.submit(work) for work in works]:
            done.result()


if not os.path.exists("key"):
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "key")
for name in ["other", "other.pub"]:
    if os.path.exists(name):
        os.remove(name)
begun = time.time()
chosen = [name for name in (FEW if options.few else MANAGERS) if options.only in name]
for name in [ROOT_OF_FEW] if options.few else chosen:
    root(name)
print(f"roots after {time.time() - begun:.0f} s", flush=True)
wrong = WRONG if GOOD in chosen else []
if options.few:
    for name in chosen:
        medium(name, ROOT_OF_FEW)
    all_of([*(functools.partial(comes_up, name) for name in chosen), *wrong])
else:
    for name in chosen:
        medium(name)
        comes_up(name)
    for work in [again, copies, *wrong] if wrong else []:
        work()
print(f"{len(bad)} bad, after {time.time() - begun:.0f} s")
sys.exit(1 if bad else 0)
