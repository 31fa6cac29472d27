#!/usr/bin/env python3
"""Makes demo/release.tar.zst: what a made-up maker of boards would publish.

Programs in it are patterns that nothing can run. Times, owners and order are fixed, so the archive
is the same every time.

Usage: scripts/make-demo-release.py   (needs zstd)
"""
import io
import pathlib
import subprocess
import tarfile

BORN = 1_767_225_600
DEMO = pathlib.Path(__file__).resolve().parent.parent / "demo"


def pattern(name: str, size: int) -> bytes:
    """Bytes that pack well, and differ from place to place: a block again and again, numbered."""
    state = 0x1A4BFE11
    for letter in name.encode():
        state = (state * 33 + letter) & 0xFFFFFFFF
    block = bytearray()
    for _ in range(4096):
        state = (state * 1_103_515_245 + 12_345) & 0x7FFFFFFF
        block += state.to_bytes(4, "little")
    out = bytearray(f"{name}, a made-up sample\n".encode())
    number = 0
    while len(out) < size:
        out += number.to_bytes(8, "little") + block
        number += 1
    return bytes(out[:size])


def loader() -> bytes:
    """The start of an executable for arm64, so that it is recognised."""
    head = bytearray(0x40)
    head[:2] = b"MZ"
    head[0x3C:0x40] = (0x40).to_bytes(4, "little")
    return bytes(head) + b"PE\0\0\x64\xaa" + pattern("first loader", 60_000)


# The start of a 64-bit ELF file for arm64.
ELF = bytes([0x7F]) + b"ELF\x02\x01\x01" + bytes(9) + (3).to_bytes(2, "little") + (0xB7).to_bytes(2, "little")


def program(name: str, size: int) -> bytes:
    return ELF + pattern(name, size - len(ELF))


FILES = {
    "kernel/kernel.bin": (0o644, pattern("kernel", 9 << 20)),
    "boot/brindle-b2.dtb": (0o644, pattern("brindle-b2", 24_000)),
    "boot/brindle-b4.dtb": (0o644, pattern("brindle-b4", 31_000)),
    "boot/EFI/BOOT/BOOTAA64.EFI": (0o644, loader()),
    "system/usr/bin/bash": (0o755, program("bash", 1_300_000)),
    "system/usr/bin/cloud-init": (0o755, b"#!/bin/sh\n# A made-up sample: stands for the first start's helper.\n"),
    "system/usr/bin/sudo": (0o4755, program("sudo", 230_000)),
    "system/usr/lib/libhut.so": (0o644, program("libhut", 3 << 20)),
    "system/usr/lib/systemd/systemd": (0o755, program("systemd", 180_000)),
    "system/usr/lib/systemd/systemd-networkd": (0o755, program("systemd-networkd", 190_000)),
    "system/usr/lib/systemd/systemd-timesyncd": (0o755, program("systemd-timesyncd", 50_000)),
    "system/usr/sbin/sshd": (0o755, program("sshd", 900_000)),
    "system/usr/sbin/wpa_supplicant": (0o755, program("wpa_supplicant", 1_400_000)),
}
LINKS = {
    "system/bin": "usr/bin",
    "system/lib": "usr/lib",
    "system/sbin": "usr/sbin",
    "system/usr/bin/sh": "bash",
    "system/usr/sbin/init": "../lib/systemd/systemd",
    "system/etc/localtime": "/usr/share/zoneinfo/Etc/UTC",
    "system/etc/systemd/system/multi-user.target.wants/systemd-networkd.service":
        "/lib/systemd/system/systemd-networkd.service",
    "system/etc/systemd/system/multi-user.target.wants/wind-log.service": "/lib/systemd/system/wind-log.service",
}
FOLDERS = {
    "system/boot": 0o755, "system/dev": 0o755, "system/etc/sudoers.d": 0o750, "system/home": 0o755,
    "system/proc": 0o555, "system/root": 0o700, "system/run": 0o755, "system/sys": 0o555, "system/tmp": 0o1777,
    "system/var/lib": 0o755, "system/var/log": 0o755, "system/var/tmp": 0o1777,
    "system/etc/ssh/sshd_config.d": 0o755, "system/etc/systemd/network": 0o755,
    "system/etc/wpa_supplicant": 0o755,
}
ZONES = ["Etc/UTC", "Europe/Vienna", "Europe/Zurich", "Europe/London"]


def main() -> None:
    for zone in ZONES:
        content = pathlib.Path("/usr/share/zoneinfo", zone).read_bytes()
        FILES[f"system/usr/share/zoneinfo/{zone}"] = (0o644, content)
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w", format=tarfile.GNU_FORMAT) as tar:
        for name in sorted({*FILES, *LINKS, *FOLDERS}):
            info = tarfile.TarInfo(name)
            info.mtime = BORN
            if name in FILES:
                info.mode, content = FILES[name]
                info.size = len(content)
                tar.addfile(info, io.BytesIO(content))
            elif name in LINKS:
                info.type, info.linkname = tarfile.SYMTYPE, LINKS[name]
                tar.addfile(info)
            else:
                info.type, info.mode = tarfile.DIRTYPE, FOLDERS[name]
                tar.addfile(info)
    zstd = ["zstd", "-19", "-q", "-f", "-o", str(DEMO / "release.tar.zst")]
    subprocess.run(zstd, input=packed.getvalue(), check=True)


if __name__ == "__main__":
    main()
