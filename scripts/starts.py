#!/usr/bin/env python3
"""What `inspect` says about whether a medium starts, against what an emulator does with it.

Media with one thing wrong at a time, for UEFI and for a legacy BIOS, are built from a Debian kernel with its initrd
and a first program that says that it runs. Each is looked at, then started; both must say the same.

Needs root and, from Debian: debootstrap qemu-system-x86 ovmf grub-efi-amd64-bin grub-pc-bin grub-common
systemd-boot-efi busybox-static
Usage: scripts/starts.py [--only TEXT] [FOLDER]      the folder keeps the kernel for the next time
"""
import glob, json, os, shutil, subprocess, sys, tempfile, time

args = sys.argv[1:]
only = args.pop(args.index("--only") + 1) if "--only" in args else ""
if "--only" in args:
    args.remove("--only")
here = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
target = os.environ.get("CARGO_TARGET_DIR", os.path.join(here, "target"))
program = os.environ.get("PINEWRIT", os.path.join(target, "release/pinewrit"))
work = os.path.abspath(args[0]) if args else tempfile.mkdtemp()
os.makedirs(work, exist_ok=True)
os.chdir(work)
os.environ["XDG_STATE_HOME"] = os.path.join(work, "state")
# Longer than the initrd waits for a root that does not come.
PATIENCE = 100
SAYS = b"the first program runs"


def run(*command, **more):
    return subprocess.run(command, check=True, stdout=subprocess.DEVNULL, **more)


if not os.path.isdir("tree/boot"):
    with open("debootstrap.log", "w") as log:
        subprocess.run(["debootstrap", "--variant=minbase", "--include=linux-image-cloud-amd64,initramfs-tools,zstd",
                        "bookworm", "tree", "http://deb.debian.org/debian"], check=True, stdout=log, stderr=log)
KERNEL, INITRD = glob.glob("tree/boot/vmlinuz-*")[0], glob.glob("tree/boot/initrd.img-*")[0]
CONSOLE = "console=ttyS0 panic=1"

# Loaders that look for their text where the medium has it.
run("grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/BOOT", "-o", "grub.efi", "part_gpt", "part_msdos", "fat", "ext2",
    "normal", "linux", "search", "search_fs_uuid", "search_label", "configfile", "echo")
run("grub-mkimage", "-O", "i386-pc", "-p", "(hd0,1)/boot/grub", "-o", "core.img", "biosdisk", "part_msdos", "ext2",
    "normal", "linux", "search", "search_fs_uuid", "configfile")
shutil.copy("/usr/lib/grub/i386-pc/boot.img", "boot.img")
with open("boot.img", "rb") as file:
    boot_code = file.read(440)


def fresh(path):
    shutil.rmtree(path, ignore_errors=True)
    os.makedirs(path)


def put(path, content):
    os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
    with open(path, "wb") as file:
        file.write(content if isinstance(content, bytes) else content.encode())
    os.chmod(path, 0o755)


def root(has_kernel):
    """A root file system whose first program says so, and ends."""
    fresh("root")
    for folder in ["dev", "proc", "sys", "run", "tmp", "etc", "sbin", "bin", "boot/grub"]:
        os.makedirs(f"root/{folder}")
    shutil.copy("/bin/busybox", "root/bin/busybox")
    os.symlink("busybox", "root/bin/sh")
    put("root/sbin/init", f"#!/bin/busybox sh\necho {SAYS.decode()} > /dev/console\n/bin/busybox poweroff -f\n")
    if has_kernel:
        shutil.copy(KERNEL, "root/boot/vmlinuz")
        shutil.copy(INITRD, "root/boot/initrd.img")


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


def menu(options, kernel="/boot/vmlinuz", initrd="/boot/initrd.img"):
    initrd = f"  initrd {initrd}\n" if initrd else ""
    return f"set timeout=0\nmenuentry 'Hut' {{\n  linux {kernel} {options} {CONSOLE}\n{initrd}}}\n"


def uefi_grub(scheme="gpt", esp=("fat32", "64MiB")):
    root(True)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy("grub.efi", "esp/EFI/BOOT/BOOTX64.EFI")
    layout(scheme, esp)
    build()
    id = seen()["partitions"][1]["filesystem"]["id"]
    text("1:/EFI/BOOT/grub.cfg", f"search.fs_uuid {id} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n")
    text("2:/boot/grub/grub.cfg", menu(f"root=UUID={id}"))
    return id


def uefi_entries(scheme="gpt"):
    root(False)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy("/usr/lib/systemd/boot/efi/systemd-bootx64.efi", "esp/EFI/BOOT/BOOTX64.EFI")
    shutil.copy(KERNEL, "esp/vmlinuz")
    shutil.copy(INITRD, "esp/initrd.img")
    put("esp/loader/loader.conf", "timeout 0\n")
    put("esp/loader/entries/hut.conf",
        f"title Hut\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=hut-root {CONSOLE}\n")
    layout(scheme, ("fat32", "96MiB"))
    build()


def uefi_kernel():
    """The kernel itself in the loader's place has no command line, and no initrd."""
    root(False)
    fresh("esp")
    os.makedirs("esp/EFI/BOOT")
    shutil.copy(KERNEL, "esp/EFI/BOOT/BOOTX64.EFI")
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
    "uefi, grub, loader for arm64": lambda: (uefi_grub(), text("1:/EFI/BOOT/BOOTX64.EFI", other_machine("grub.efi"))),
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
        f"title Hut\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=other {CONSOLE}\n")),
    "uefi, kernel alone": lambda: uefi_kernel(),
    "bios, grub": lambda: bios(),
    "bios, grub, no text": lambda: (bios(), change("remove", "1:/boot/grub/grub.cfg")),
    "bios, grub, no kernel": lambda: (bios(), change("remove", "1:/boot/vmlinuz")),
    "bios, grub, no initrd": lambda: (bios(), change("remove", "1:/boot/initrd.img")),
    "bios, grub, root of another medium": lambda: (bios(), text("1:/boot/grub/grub.cfg", menu("root=UUID=1-2"))),
    "bios, grub, no init": lambda: (bios(), change("remove", "1:/sbin/init"), change("remove", "1:/bin/sh")),
    "bios, no boot code": lambda: (bios(), clear_boot_code()),
}


def ext_in_place_of_fat():
    run(program, "-q", "format", "medium.img", "1", "--as", "ext4", "--yes")


def clear_boot_code():
    with open("medium.img", "r+b") as medium:
        medium.write(bytes(440))


def told(firmware):
    """The best of the ways that this firmware has."""
    out = subprocess.run([program, "--color", "never", "inspect", "medium.img"], check=True, capture_output=True)
    words = {"uefi": "UEFI on", "bios": "legacy BIOS"}[firmware]
    lines = [line for line in out.stdout.decode().splitlines() if words in line]
    if any(line.endswith(": starts") for line in lines):
        return "starts"
    return "cannot be told" if any("cannot be told" in line for line in lines) else "does not start"


def started(firmware):
    """What the emulator makes of it, and the last lines of its console."""
    shutil.copy("/usr/share/OVMF/OVMF_VARS_4M.fd", "vars.fd")
    more = ["-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd",
            "-drive", "if=pflash,format=raw,file=vars.fd"] if firmware == "uefi" else []
    command = ["qemu-system-x86_64", "-machine", "q35", "-m", "512", "-nographic", "-no-reboot", *more,
               "-drive", "file=medium.img,format=raw,if=virtio,snapshot=on", "-net", "none"]
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


wrong = 0
for name, make in CASES.items():
    if only not in name:
        continue
    make()
    firmware = name.split(",")[0]
    said = told(firmware)
    does, seconds, last = started(firmware)
    mark = "equal" if said == does else "open" if said == "cannot be told" else "DIFFERS"
    wrong += mark == "DIFFERS"
    print(f"{mark:8} {name:40} says: {said:15} does: {does:15} {seconds:5.1f} s", flush=True)
    if mark == "DIFFERS":
        print("        ", last, flush=True)
print(f"{len(CASES)} media, {wrong} differ")
sys.exit(1 if wrong else 0)
