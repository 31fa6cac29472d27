#!/usr/bin/env python3
"""Measured speeds against the speeds that simulated cards and a throttled device have, and estimated
times against the times that writes take: twelve combinations of image, medium and reader.

Needs root for the throttled device (loop devices, the blkio controller); without it, that part is left
out. From Debian: xz-utils zstd gzip
Usage: scripts/bench-measure.py [FOLDER]
PINEWRIT: the program, instead of a release build.
"""

import json
import os
import random
import subprocess
import sys
import tempfile
import time

REPO = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
CONTROL = "/sys/fs/cgroup/blkio/pinewrit-measure"
MB = 1_000_000
# Read and write speed in MB/s, and the bus in Mbit/s.
CARDS = [(90, 40, 5000), (25, 12, 5000), (120, 60, 480)]
LAYOUT = """[medium]
scheme = "mbr"
[[partition]]
size = "64MiB"
type = "fat32"
filesystem = "fat32"
label = "HUT BOOT"
[[partition]]
size = "rest"
filesystem = "ext4"
label = "hut-root"
[[partition.content]]
from = "root"
to = "/"
"""


def program():
    if "PINEWRIT" in os.environ:
        return os.path.abspath(os.environ["PINEWRIT"])
    subprocess.run(["cargo", "build", "--release", "--quiet"], cwd=REPO, check=True)
    return os.path.join(REPO, "target/release/pinewrit")


def run(*args, prefix=()):
    done = subprocess.run([*prefix, PINEWRIT, *args], capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"{args}: {done.returncode}\n{done.stderr}")
    lines = [json.loads(line) for line in done.stdout.splitlines() if line.startswith("{")]
    return lines[-1] if lines else None


def rack(name, read, write, bus):
    with open(name, "w") as file:
        file.write(
            f'state = "state-{name}"\n[[readers]]\nname = "slot"\nbus = "usb"\nspeed = {bus}\nholds = "card"\n'
            f'[[cards]]\nname = "card"\nfile = "{name}.img"\nsize = "2GB"\nserial = "1"\n'
            f'read-speed = "{read}MB/s"\nwrite-speed = "{write}MB/s"\n'
        )


def off(found, wanted):
    return f"{(found / wanted - 1) * 100:+.1f} %"


def speeds():
    print(f"{'measured':34} {'reading':>20} {'writing':>20}")
    for number, (read, write, bus) in enumerate(CARDS):
        rack(f"rack{number}.toml", read, write, bus)
        found = run("--rack", f"rack{number}.toml", "--json", "measure", "rack:slot", "--speed")
        limit = {480: 40}.get(bus, 400)
        told(f"simulated, bus of {bus} Mbit/s", found, min(read, limit), min(write, limit))
    if os.geteuid() == 0 and os.path.isdir(os.path.dirname(CONTROL)):
        throttled(40, 20)
        throttled(18, 9)


def told(what, found, read, write):
    speed = found["speed"]
    reads, writes = speed["read"]["rate"] / MB, speed["write"]["sustained"] / MB
    print(
        f"{what:34} {reads:7.2f} of {read:3} {off(reads, read):>8} "
        f"{writes:7.2f} of {write:3} {off(writes, write):>8}"
    )


def throttled(read, write):
    os.makedirs(CONTROL, exist_ok=True)
    with open("loop.img", "wb") as file:
        file.truncate(1 << 30)
        for _ in range(1024):
            file.write(random.randbytes(1 << 20))
    device = subprocess.run(
        ["losetup", "--find", "--show", "--direct-io=on", "loop.img"],
        capture_output=True, text=True, check=True,
    ).stdout.strip()
    try:
        number = os.stat(device).st_rdev
        number = f"{os.major(number)}:{os.minor(number)}"
        for key, rate in (("read", read), ("write", write)):
            with open(f"{CONTROL}/blkio.throttle.{key}_bps_device", "w") as file:
                file.write(f"{number} {rate * MB}")
        inside = ["sh", "-c", f"echo $$ > {CONTROL}/cgroup.procs; exec \"$@\"", "sh"]
        tag = next(
            medium["tag"]
            for medium in run("--json", "media", "--all")["media"]
            if medium["path"] == device
        )
        args = ["--json", "measure", device, "--speed", "--confirm", tag]
        told("throttled device", run(*args, prefix=inside), read, write)
    finally:
        subprocess.run(["losetup", "--detach", device], check=True)
        os.rmdir(CONTROL)


def images():
    os.makedirs("root/data")
    for number in range(6):
        with open(f"root/data/{number}.bin", "wb") as file:
            # Half of it can be packed.
            for _ in range(20):
                file.write(random.randbytes(1 << 20) + b"snow 0.4\n" * 116_509)
    with open("layout.toml", "w") as file:
        file.write(LAYOUT)
    run("build", "layout.toml", "--to", "hut.img", "--size", "600MiB")
    for command in (["zstd", "-q", "-k"], ["gzip", "-k", "-1"], ["xz", "-k", "-0"]):
        subprocess.run([*command, "hut.img"], check=True)
    return ["hut.img", "hut.img.zst", "hut.img.gz", "hut.img.xz"]


def estimates():
    print(f"\n{'estimated and taken':34} {'estimate':>9} {'truth':>9}")
    worst = 0
    for image in images():
        for number, (read, write, bus) in enumerate(CARDS):
            name = f"rack{number}.toml"
            at = ["--rack", name]
            estimate = run(*at, "--json", "estimate", "time", image, "--to", "rack:slot")["seconds"]
            began = time.monotonic()
            run(*at, "--json", "write", image, "--to", "rack:slot", "--yes")
            truth = time.monotonic() - began
            worst = max(worst, abs(estimate / truth - 1))
            what = f"{image}, {read}/{write} MB/s, {bus}"
            print(f"{what:34} {estimate:7.1f} s {truth:7.1f} s {off(estimate, truth):>8}")
    print(f"worst {worst * 100:.1f} %")


PINEWRIT = program()
with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as work:
    os.chdir(work)
    os.environ["XDG_STATE_HOME"] = os.path.join(work, "state")
    os.environ["XDG_CONFIG_HOME"] = os.path.join(work, "config")
    speeds()
    estimates()
