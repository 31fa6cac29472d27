#!/usr/bin/env python3
"""What `inspect` says about whether a medium starts, against what an emulator does with it.

Media with one thing wrong at a time, for UEFI on x86-64 and arm64, for a legacy BIOS, and for a 32-bit Arm board whose
loader is its own, are built from a Debian kernel with an initrd and a first program that says that it runs. Each is
looked at, then started; both must say the same, and so must `trial`. Packages of other architectures are unpacked, not
installed.

Needs, from Debian: qemu-system-x86 ovmf qemu-system-arm qemu-efi-aarch64 grub-common; without --dozen also
debootstrap, and root
Usage: scripts/starts.py [--dozen] [--only TEXT] [FOLDER]    the folder keeps the kernels for the next time
"""
import glob, json, os, shutil, stat, subprocess, sys, time

import workplace

options, program, work = workplace.begin("dozen", "media")
# Longer than the initrd waits for a root that does not come.
PATIENCE = 100
SAYS = b"the first program runs"


def run(*command, **more):
    return subprocess.run(command, check=True, stdout=subprocess.DEVNULL, **more)


def unpacked(architecture, packages):
    """Packages of an architecture in a folder, from Debian's own servers; the computer's packages stay as they are."""
    folder = os.path.join(work, architecture)
    if os.path.isdir(f"{folder}/tree/boot"):
        return f"{folder}/tree"
    for name in ["state/lists/partial", "cache/archives/partial", "debs", "tree"]:
        os.makedirs(f"{folder}/{name}", exist_ok=True)
    open(f"{folder}/state/status", "a").close()
    put(f"{folder}/sources.list", "deb http://deb.debian.org/debian bookworm main\n")
    put(f"{folder}/apt.conf", f"""
APT::Architecture "{architecture}";
APT::Architectures {{ "{architecture}"; }};
APT::Sandbox::User "root";
Dir::State "{folder}/state";
Dir::State::status "{folder}/state/status";
Dir::Cache "{folder}/cache";
Dir::Etc::sourcelist "{folder}/sources.list";
Dir::Etc::sourceparts "-";
""")
    own = dict(os.environ, APT_CONFIG=f"{folder}/apt.conf")
    run("apt-get", "-qq", "update", env=own)
    kernel = "linux-image-armmp" if architecture == "armhf" else f"linux-image-cloud-{architecture}"
    told = subprocess.run(["apt-cache", "depends", kernel], env=own, check=True, capture_output=True, text=True).stdout
    images = [line.split()[1] for line in told.splitlines() if "Depends: linux-image-" in line]
    run("apt-get", "-qq", "download", *images, *packages, env=own, cwd=f"{folder}/debs")
    for package in glob.glob(f"{folder}/debs/*.deb"):
        run("dpkg-deb", "-x", package, f"{folder}/tree")
    return f"{folder}/tree"


def put(path, content):
    os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
    with open(path, "wb") as file:
        file.write(content if isinstance(content, bytes) else content.encode())
    os.chmod(path, 0o755)


def modules(tree, wanted):
    """Paths of kernel modules, each after those that it needs."""
    files = {os.path.basename(path)[:-3].replace("-", "_"): path
             for path in glob.glob(f"{tree}/lib/modules/*/kernel/**/*.ko", recursive=True)}
    order = []

    def take(name):
        path = files.get(name)
        if path is None or path in order:
            return
        with open(path, "rb") as file:
            content = file.read()
        at = content.find(b"\0depends=") + len(b"\0depends=")
        for other in content[at:content.index(b"\0", at)].decode().split(","):
            take(other.replace("-", "_"))
        order.append(path)

    for name in wanted:
        take(name)
    return order


INIT = """#!/bin/busybox sh
/bin/busybox mkdir -p /proc /sys /root
/bin/busybox mount -t proc none /proc
/bin/busybox mount -t devtmpfs none /dev
for module in MODULES; do /bin/busybox insmod /modules/$module; done
init=/sbin/init
for word in $(/bin/busybox cat /proc/cmdline); do
  case $word in root=*) root=${word#root=};; init=*) init=${word#init=};; esac
done
for try in 1 2 3 4 5; do
  case $root in UUID=*|LABEL=*) device=$(/bin/busybox findfs $root);; *) device=$root;; esac
  /bin/busybox mount -t ext4 -o ro "$device" /root && break
  /bin/busybox sleep 1
done
/bin/busybox mount --move /dev /root/dev
for first in $init /sbin/init /etc/init /bin/init /bin/sh; do
  [ -x /root$first ] && exec /bin/busybox switch_root -c /dev/console /root $first
done
echo "(initramfs) neither root nor init"
/bin/busybox poweroff -f
"""


def small_initrd(tree, busybox):
    """An archive (cpio, "newc") that finds the root, as a system's initrd does, and does not wait for long."""
    found = modules(tree, ["virtio_pci", "virtio_blk", "crc32c_generic", "ext4"])
    entries = [("dev", stat.S_IFDIR | 0o755, b"", 0), ("dev/console", stat.S_IFCHR | 0o600, b"", (5, 1)),
               ("bin", stat.S_IFDIR | 0o755, b"", 0), ("modules", stat.S_IFDIR | 0o755, b"", 0)]
    for name, path in [("bin/busybox", busybox)] + [(f"modules/{os.path.basename(path)}", path) for path in found]:
        with open(path, "rb") as file:
            entries.append((name, stat.S_IFREG | 0o755, file.read(), 0))
    text = INIT.replace("MODULES", " ".join(os.path.basename(path) for path in found))
    entries += [("init", stat.S_IFREG | 0o755, text.encode(), 0), ("TRAILER!!!", 0, b"", 0)]
    archive = b""
    for number, (name, mode, content, device) in enumerate(entries, 1):
        major, minor = device or (0, 0)
        fields = [number, mode, 0, 0, 1, 0, len(content), 0, 0, major, minor, len(name) + 1, 0]
        archive += b"070701" + b"".join(b"%08x" % field for field in fields) + name.encode() + b"\0"
        archive += bytes(-len(archive) % 4) + content
        archive += bytes(-len(archive) % 4)
    return archive


class Machine:
    """What media for one architecture are made of."""

    def __init__(self, architecture, packages):
        is_arm = architecture == "arm64"
        tree = unpacked(architecture, packages)
        self.busybox = f"{tree}/bin/busybox"
        self.kernel = glob.glob(f"{tree}/boot/vmlinuz-*")[0]
        self.initrd = f"{architecture}.initrd"
        put(self.initrd, small_initrd(tree, self.busybox))
        if architecture == "armhf":
            self.console = "console=ttyAMA0 panic=1"
            return
        self.loader = "BOOTAA64.EFI" if is_arm else "BOOTX64.EFI"
        self.entries = f"{tree}/usr/lib/systemd/boot/efi/systemd-boot{'aa64' if is_arm else 'x64'}.efi"
        self.console = f"console={'ttyAMA0' if is_arm else 'ttyS0'} panic=1"
        self.grub = f"{architecture}.grub"
        # A loader that looks for its text where the medium has it.
        format = "arm64-efi" if is_arm else "x86_64-efi"
        run("grub-mkimage", "-d", f"{tree}/usr/lib/grub/{format}", "-O", format, "-p", "/EFI/BOOT", "-o", self.grub,
            "part_gpt", "part_msdos", "fat", "ext2", "normal", "linux", "search", "search_fs_uuid", "search_label",
            "configfile", "echo")


PACKAGES = ["busybox-static", "systemd-boot-efi"]
X64 = Machine("amd64", [*PACKAGES, "grub-efi-amd64-bin", "grub-pc-bin"])
ARM = Machine("arm64", [*PACKAGES, "grub-efi-arm64-bin"])
if not options.few:
    BOARD = Machine("armhf", ["busybox-static"])
    # A system's own initrd is the better judge.
    if not os.path.isdir("tree/boot"):
        with open("debootstrap.log", "w") as log:
            subprocess.run(["debootstrap", "--variant=minbase", "--include=linux-image-cloud-amd64,initramfs-tools,zstd",
                            "bookworm", "tree", "http://deb.debian.org/debian"], check=True, stdout=log, stderr=log)
    X64.kernel, X64.initrd = glob.glob("tree/boot/vmlinuz-*")[0], glob.glob("tree/boot/initrd.img-*")[0]
pc = f"{work}/amd64/tree/usr/lib/grub/i386-pc"
run("grub-mkimage", "-d", pc, "-O", "i386-pc", "-p", "(hd0,1)/boot/grub", "-o", "core.img", "biosdisk", "part_msdos", "ext2",
    "normal", "linux", "search", "search_fs_uuid", "configfile")
with open(f"{pc}/boot.img", "rb") as file:
    boot_code = file.read(440)


def fresh(path):
    shutil.rmtree(path, ignore_errors=True)
    os.makedirs(path)


def root(has_kernel, machine=X64):
    """A root file system whose first program says so, and ends."""
    fresh("root")
    for folder in ["dev", "proc", "sys", "run", "tmp", "etc", "sbin", "bin", "boot/grub"]:
        os.makedirs(f"root/{folder}")
    shutil.copy(machine.busybox, "root/bin/busybox")
    os.symlink("busybox", "root/bin/sh")
    put("root/sbin/init", f"#!/bin/busybox sh\necho {SAYS.decode()} > /dev/console\n"
        "/bin/busybox printf 'hut login: ' > /dev/console\n/bin/busybox sleep 1000\n")
    if has_kernel:
        shutil.copy(machine.kernel, "root/boot/vmlinuz")
        shutil.copy(machine.initrd, "root/boot/initrd.img")


def layout(scheme, esp, extra=""):
    parts = f'[medium]\nscheme = "{scheme}"\nidentifiers = "hut"\n{extra}'
    if esp:
        parts += (f'[[partition]]\nsize = "{esp[1]}"\ntype = "esp"\nfilesystem = "{esp[0]}"\nlabel = "ESP"\n'
                  '[[partition.content]]\nfrom = "esp"\nto = "/"\n')
    parts += ('[[partition]]\nsize = "rest"\nfilesystem = "ext4"\nlabel = "hut-root"\n'
              '[[partition.content]]\nfrom = "root"\nto = "/"\n')
    put("layout.toml", parts)


def build():
    if os.path.exists("medium.img"):
        os.remove("medium.img")
    run(program, "-q", "build", "layout.toml", "--to", "medium.img", "--size", "420MiB", "--yes")


def seen():
    out = subprocess.run([program, "--json", "inspect", "medium.img"], check=True, capture_output=True).stdout
    return json.loads(out.splitlines()[-1])


def change(*command):
    run(program, "-q", "files", command[0], "medium.img", *command[1:], "--yes")


def text(place, content):
    put("text", content)
    change("put", place, "text")


def put_file(place, file):
    change("put", place, file)


def menu(options, kernel="/boot/vmlinuz", initrd="/boot/initrd.img", machine=X64):
    initrd = f"  initrd {initrd}\n" if initrd else ""
    return f"set timeout=0\nmenuentry 'Hut' {{\n  linux {kernel} {options} {machine.console}\n{initrd}}}\n"


def uefi_grub(scheme="gpt", esp=("fat32", "64MiB"), machine=X64):
    root(True, machine)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy(machine.grub, f"esp/EFI/BOOT/{machine.loader}")
    layout(scheme, esp)
    build()
    id = seen()["partitions"][1]["filesystem"]["id"]
    text("1:/EFI/BOOT/grub.cfg", f"search.fs_uuid {id} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n")
    text("2:/boot/grub/grub.cfg", menu(f"root=UUID={id}", machine=machine))
    return id


def uefi_entries(scheme="gpt", machine=X64):
    root(False, machine)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy(machine.entries, f"esp/EFI/BOOT/{machine.loader}")
    shutil.copy(machine.kernel, "esp/vmlinuz")
    shutil.copy(machine.initrd, "esp/initrd.img")
    put("esp/loader/loader.conf", "timeout 0\n")
    put("esp/loader/entries/hut.conf",
        f"title Hut\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=hut-root {machine.console}\n")
    layout(scheme, ("fat32", "96MiB"))
    build()


def uefi_kernel():
    """The kernel itself in the loader's place has no command line, and no initrd."""
    root(False)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy(X64.kernel, "esp/EFI/BOOT/BOOTX64.EFI")
    layout("gpt", ("fat32", "64MiB"))
    build()


def bios():
    root(True)
    put("boot.bin", boot_code)
    layout("mbr", None, '[[blob]]\nfrom = "core.img"\nat = "512"\nmax = "1MiB"\n')
    build()
    with open("medium.img", "r+b") as medium:
        medium.write(boot_code)
    id = seen()["partitions"][0]["filesystem"]["id"]
    text("1:/boot/grub/grub.cfg", menu(f"root=UUID={id}"))
    return id


def own_loader():
    """The board's own loader reads a text; an emulator starts the kernel that is named there."""
    root(True, BOARD)
    os.makedirs("root/boot/extlinux")
    put("root/boot/extlinux/extlinux.conf", "default hut\nlabel hut\n  kernel /boot/vmlinuz\n  initrd /boot/initrd.img\n"
        f"  append root=LABEL=hut-root {BOARD.console}\n")
    layout("mbr", None)
    build()


def other_machine(path):
    """A loader for another processor: only the machine type is another."""
    with open(path, "rb") as file:
        content = bytearray(file.read())
    at = int.from_bytes(content[0x3c:0x40], "little") + 4
    content[at:at + 2] = (0xaa64).to_bytes(2, "little")
    return bytes(content)


CASES = {
    "uefi, grub": lambda: uefi_grub(),
    "uefi, grub, mbr": lambda: uefi_grub("mbr"),
    "uefi, grub, fat16": lambda: uefi_grub(esp=("fat16", "64MiB")),
    "uefi, grub, fat12": lambda: uefi_grub(esp=("fat12", "8MiB")),
    "uefi, grub, ext4 in place of a fat": lambda: (uefi_grub(), ext_in_place_of_fat()),
    "uefi, grub, no loader": lambda: (uefi_grub(), change("remove", "1:/EFI/BOOT/BOOTX64.EFI")),
    "uefi, grub, loader for arm64": lambda: (uefi_grub(), text("1:/EFI/BOOT/BOOTX64.EFI", other_machine(X64.grub))),
    "uefi, grub, loader is a text": lambda: (uefi_grub(), text("1:/EFI/BOOT/BOOTX64.EFI", "a text")),
    "uefi, grub, no text": lambda: (uefi_grub(), change("remove", "1:/EFI/BOOT/grub.cfg"),
                                    change("remove", "2:/boot/grub/grub.cfg")),
    "uefi, grub, text of another medium": lambda: (uefi_grub(), text(
        "1:/EFI/BOOT/grub.cfg", "search.fs_uuid 1111-2222 root\nconfigfile ($root)/boot/grub/grub.cfg\n")),
    "uefi, grub, second text missing": lambda: (uefi_grub(), change("remove", "2:/boot/grub/grub.cfg")),
    "uefi, grub, no entry": lambda: (uefi_grub(), text("2:/boot/grub/grub.cfg", "set timeout=0\n")),
    "uefi, grub, no kernel": lambda: (uefi_grub(), change("remove", "2:/boot/vmlinuz")),
    "uefi, grub, kernel is a text": lambda: (uefi_grub(), text("2:/boot/vmlinuz", "a text")),
    "uefi, grub, no initrd": lambda: (uefi_grub(), change("remove", "2:/boot/initrd.img")),
    "uefi, grub, initrd not named": lambda: (
        lambda id: text("2:/boot/grub/grub.cfg", menu(f"root=UUID={id}", initrd="")))(uefi_grub()),
    "uefi, grub, root of another medium": lambda: (uefi_grub(), text(
        "2:/boot/grub/grub.cfg", menu("root=UUID=11111111-2222-3333-4444-555555555555"))),
    "uefi, grub, root by label": lambda: (uefi_grub(), text("2:/boot/grub/grub.cfg", menu("root=LABEL=hut-root"))),
    "uefi, grub, root by another label": lambda: (uefi_grub(), text("2:/boot/grub/grub.cfg", menu("root=LABEL=x"))),
    "uefi, grub, root by partuuid": lambda: (uefi_grub(), text(
        "2:/boot/grub/grub.cfg", menu("root=PARTUUID=" + seen()["partitions"][1]["partuuid"]))),
    "uefi, grub, root by another partuuid": lambda: (uefi_grub(), text(
        "2:/boot/grub/grub.cfg", menu("root=PARTUUID=11111111-2222-3333-4444-555555555555"))),
    "uefi, grub, root by device": lambda: (uefi_grub(), text("2:/boot/grub/grub.cfg", menu("root=/dev/vda2"))),
    "uefi, grub, root by another device": lambda: (uefi_grub(), text("2:/boot/grub/grub.cfg", menu("root=/dev/vda7"))),
    "uefi, grub, root is the fat": lambda: (uefi_grub(), text(
        "2:/boot/grub/grub.cfg", menu("root=LABEL=ESP"))),
    "uefi, grub, no init": lambda: (uefi_grub(), change("remove", "2:/sbin/init"), change("remove", "2:/bin/sh")),
    "uefi, grub, init elsewhere": lambda: (lambda id: (
        change("remove", "2:/sbin/init"), text("2:/hut", "x"), change("remove", "2:/hut"),
        text("2:/boot/grub/grub.cfg", menu(f"root=UUID={id} init=/hut"))))(uefi_grub()),
    "uefi, grub, search by label": lambda: (uefi_grub(), text(
        "1:/EFI/BOOT/grub.cfg", "search --no-floppy --label --set=root hut-root\nconfigfile ($root)/boot/grub/grub.cfg\n")),
    "uefi, grub, partition by number": lambda: (uefi_grub(), text(
        "1:/EFI/BOOT/grub.cfg", "configfile (hd0,gpt2)/boot/grub/grub.cfg\n"), text(
        "2:/boot/grub/grub.cfg", menu("root=LABEL=hut-root", "(hd0,gpt2)/boot/vmlinuz", "(hd0,gpt2)/boot/initrd.img"))),
    "uefi, entries": lambda: uefi_entries(),
    "uefi, entries, mbr": lambda: uefi_entries("mbr"),
    "uefi, entries, no entry": lambda: (uefi_entries(), change("remove", "1:/loader/entries/hut.conf")),
    "uefi, entries, no kernel": lambda: (uefi_entries(), change("remove", "1:/vmlinuz")),
    "uefi, entries, no initrd": lambda: (uefi_entries(), change("remove", "1:/initrd.img")),
    "uefi, entries, root of another medium": lambda: (uefi_entries(), text(
        "1:/loader/entries/hut.conf",
        f"title Hut\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=other {X64.console}\n")),
    "uefi, kernel alone": lambda: uefi_kernel(),
    "arm64, grub": lambda: uefi_grub(machine=ARM),
    "arm64, grub, mbr, fat16": lambda: uefi_grub("mbr", ("fat16", "64MiB"), ARM),
    "arm64, grub, loader for x86-64": lambda: (uefi_grub(machine=ARM), put_file("1:/EFI/BOOT/BOOTAA64.EFI", X64.grub)),
    "arm64, grub, loader named for x86-64": lambda: (
        uefi_grub(machine=ARM), change("remove", "1:/EFI/BOOT/BOOTAA64.EFI"),
        put_file("1:/EFI/BOOT/BOOTX64.EFI", ARM.grub)),
    "arm64, grub, no text": lambda: (uefi_grub(machine=ARM), change("remove", "1:/EFI/BOOT/grub.cfg")),
    "arm64, grub, no kernel": lambda: (uefi_grub(machine=ARM), change("remove", "2:/boot/vmlinuz")),
    "arm64, grub, kernel for x86-64": lambda: (uefi_grub(machine=ARM), put_file("2:/boot/vmlinuz", X64.kernel)),
    "arm64, grub, no initrd": lambda: (uefi_grub(machine=ARM), change("remove", "2:/boot/initrd.img")),
    "arm64, grub, root of another medium": lambda: (uefi_grub(machine=ARM), text(
        "2:/boot/grub/grub.cfg", menu("root=UUID=11111111-2222-3333-4444-555555555555", machine=ARM))),
    "arm64, grub, no init": lambda: (
        uefi_grub(machine=ARM), change("remove", "2:/sbin/init"), change("remove", "2:/bin/sh")),
    "arm64, grub, init for x86-64": lambda: (uefi_grub(machine=ARM), put_file("2:/bin/busybox", X64.busybox)),
    "arm64, entries": lambda: uefi_entries(machine=ARM),
    "arm64, entries, no kernel": lambda: (uefi_entries(machine=ARM), change("remove", "1:/vmlinuz")),
    "bios, grub": lambda: bios(),
    "bios, grub, no text": lambda: (bios(), change("remove", "1:/boot/grub/grub.cfg")),
    "bios, grub, no kernel": lambda: (bios(), change("remove", "1:/boot/vmlinuz")),
    "bios, grub, no initrd": lambda: (bios(), change("remove", "1:/boot/initrd.img")),
    "bios, grub, root of another medium": lambda: (bios(), text("1:/boot/grub/grub.cfg", menu("root=UUID=1-2"))),
    "bios, grub, no init": lambda: (bios(), change("remove", "1:/sbin/init"), change("remove", "1:/bin/sh")),
    "board, extlinux": lambda: own_loader(),
    "board, extlinux, root of another medium": lambda: (own_loader(), text(
        "1:/boot/extlinux/extlinux.conf", "default hut\nlabel hut\n  kernel /boot/vmlinuz\n  initrd /boot/initrd.img\n"
        f"  append root=LABEL=other {BOARD.console}\n")),
    "bios, no boot code": lambda: (bios(), clear_boot_code()),
}


# What takes few minutes: each firmware, and each kind of fault.
DOZEN = [
    "uefi, grub", "uefi, grub, fat12", "uefi, grub, loader for arm64", "uefi, grub, no kernel", "uefi, entries",
    "arm64, grub", "arm64, grub, loader for x86-64", "arm64, grub, root of another medium", "arm64, grub, no init",
    "bios, grub", "bios, grub, no initrd", "bios, grub, no kernel",
]


def ext_in_place_of_fat():
    run(program, "-q", "format", "medium.img", "1", "--as", "ext4", "--yes")


def clear_boot_code():
    with open("medium.img", "r+b") as medium:
        medium.write(bytes(440))


def told(firmware):
    """The best of the ways that this firmware has."""
    out = subprocess.run([program, "--color", "never", "inspect", "medium.img"], check=True, capture_output=True)
    words = {"uefi": "UEFI on x86-64", "arm64": "UEFI on arm64", "bios": "legacy BIOS",
             "board": "a loader of the board's own"}[firmware]
    lines = [line for line in out.stdout.decode().splitlines() if words in line]
    if any(line.endswith(": starts") for line in lines):
        return "starts"
    return "cannot be told" if any("cannot be told" in line for line in lines) else "does not start"


def started(firmware):
    """What the emulator makes of it, and the last lines of its console."""
    if firmware == "board":
        names = subprocess.run([program, "files", "read", "medium.img", "1:/boot/extlinux/extlinux.conf"], check=True,
                               capture_output=True, text=True).stdout
        command = ["qemu-system-arm", "-machine", "virt,highmem=off", "-cpu", "cortex-a15", "-kernel", BOARD.kernel,
                   "-initrd", BOARD.initrd, "-append", names.split("append ")[1].strip()]
    elif firmware == "arm64":
        emulator, code, variables = "qemu-system-aarch64", "AAVMF/AAVMF_CODE.fd", "AAVMF/AAVMF_VARS.fd"
        command = [emulator, "-machine", "virt", "-cpu", "cortex-a57"]
    else:
        emulator, code, variables = "qemu-system-x86_64", "OVMF/OVMF_CODE_4M.fd", "OVMF/OVMF_VARS_4M.fd"
        command = [emulator, "-machine", "q35"]
    if firmware in ["uefi", "arm64"]:
        shutil.copy(f"/usr/share/{variables}", "vars.fd")
        command += ["-drive", f"if=pflash,format=raw,readonly=on,file=/usr/share/{code}",
                    "-drive", "if=pflash,format=raw,file=vars.fd"]
    command += ["-m", "512", "-nographic", "-no-reboot", "-net", "none",
                "-drive", "file=medium.img,format=raw,if=virtio,snapshot=on"]
    with open("console.log", "wb") as log:
        emulator = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
    begun = time.time()
    while emulator.poll() is None and time.time() - begun < PATIENCE:
        time.sleep(0.5)
        with open("console.log", "rb") as log:
            console = log.read()
        ends = [SAYS, b"Shell>", b"grub>", b"grub rescue", b"(initramfs)", b"No bootable device", b"Kernel panic",
                b"you need to load the kernel first", b"press any key", b"Press any key"]
        if any(end in console for end in ends):
            time.sleep(0.5)
            break
    emulator.kill()
    emulator.wait()
    with open("console.log", "rb") as log:
        console = log.read()
    last = [line for line in console.decode(errors="replace").split("\n") if line.strip()][-1:]
    return "starts" if SAYS in console else "does not start", time.time() - begun, last


def tried():
    """What `trial` makes of it: the same as the emulator alone, told in its own way."""
    begun = time.time()
    done = subprocess.run([program, "--color", "never", "trial", "medium.img", "--timeout", str(PATIENCE), "--disk", "virtio",
                           "--memory", "512MiB"], stdin=subprocess.DEVNULL, capture_output=True, text=True)
    said = next((line for line in done.stderr.splitlines() if line.startswith("pinewrit: ")), "")
    what = {0: "starts", 5: "does not start", 8: "does not start"}.get(done.returncode)
    if what is None and "nothing on it that an emulator can start" in said:
        what = "does not start"
    return what or f"exit {done.returncode}: {said}", time.time() - begun, said


# Of the dozen, these are tried as well: each firmware, and something that fails.
TRIED = ["uefi, entries", "arm64, grub", "bios, grub", "arm64, grub, no init"]
wrong = 0
chosen = {name: CASES[name] for name in (DOZEN if options.few else CASES) if options.only in name}
for name, make in chosen.items():
    make()
    firmware = name.split(",")[0]
    said = told(firmware)
    does, seconds, last = started(firmware)
    mark = "equal" if said == does else "open" if said == "cannot be told" else "DIFFERS"
    wrong += mark == "DIFFERS"
    print(f"{mark:8} {name:40} says: {said:15} does: {does:15} {seconds:5.1f} s", flush=True)
    if mark == "DIFFERS":
        print("        ", last, flush=True)
    if options.few and name not in TRIED:
        continue
    ends, seconds, said = tried()
    wrong += ends != does
    print(f"{'equal' if ends == does else 'DIFFERS':8} {'  tried':40} ends: {ends:15} {'':21} {seconds:5.1f} s  {said[10:90]}",
          flush=True)
print(f"{len(chosen)} media, {wrong} differ")
sys.exit(1 if wrong else 0)
