#!/usr/bin/env bash
# A batch of 24 units at 8 readers with the speeds of real cards (a rack with a real clock), beside one card
# alone and eight cards written by `write`: how much of the readers' time is used, and the peak of memory.
#
#   scripts/bench-batch.sh [UNITS] [READERS]      (default 24 8)
#
# Needs zstd, python3, and 10 GB in the folder TMPDIR.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
bin=${CARGO_TARGET_DIR:-$PWD/target}/release/pinewrit
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export XDG_STATE_HOME=$work/state XDG_CACHE_HOME=$work/cache XDG_CONFIG_HOME=$work/config
"$bin" -q build demo/layout.toml --to "$work/hut.img" --size 900MiB
# Half a gigabyte that does not pack, as a system's files.
head -c 512M /dev/urandom > "$work/content"
"$bin" -q files put "$work/hut.img" "$work/content" 2:/srv/content --yes
rm "$work/content"
zstd -q -3 --rm "$work/hut.img"
cd "$work"
python3 - "$bin" "${1:-24}" "${2:-8}" << 'PY'
import json, os, resource, subprocess, sys, time

bin, units, readers = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
SPEED, READ = 25_000_000, 90_000_000

def rack(cards, readers, name):
    with open(name, "w") as out:
        out.write(f'state = "{name}.state"\n')
        for r in range(readers):
            out.write(f'[[readers]]\nname = "r{r}"\nbus = "usb"\n')
        for c in range(cards):
            out.write(f'[[cards]]\nname = "c{c}"\nfile = "{name}-{c}.img"\nsize = "1GB"\nmaker = "Moraine"\n'
                      f'model = "Scree"\nserial = "{c:05}"\nwrite-speed = "{SPEED // 1_000_000}MB"\n'
                      f'read-speed = "{READ // 1_000_000}MB"\n')

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp w"

def roster(units):
    with open("huts.toml", "w") as out:
        out.write(f'image = "hut.img.zst"\n[[settings.users]]\nname = "warden"\nssh-keys = ["{KEY}"]\n[count]\n'
                  f'units = {units}\nname = "larkfell-{{n:03}}"\n')

def batch(units, readers, name):
    """Seconds from the first card to the last, and the peak of memory in MiB."""
    rack(units, readers, name)
    roster(units)
    run = subprocess.Popen([bin, "--rack", name, "--ledger", name + ".sqlite", "--json", "batch", "huts.toml"],
                           stdout=subprocess.PIPE, text=True)
    free, left, begun, done = [], list(range(units)), None, 0
    move = lambda card, reader: subprocess.run(
        [bin, "-q", "--rack", name, "rack", "insert", f"c{card}", reader], check=True, stdout=subprocess.DEVNULL)
    for line in run.stdout:
        event = json.loads(line)
        if event["event"] == "waiting" and begun is None:
            begun, free = time.time(), [f"r{r}" for r in range(readers)]
        if event["event"] == "unit-done":
            done, last = done + 1, time.time()
            free.append(event["medium"].removeprefix("rack:"))
        while free and left:
            move(left.pop(0), free.pop(0))
    _, status, usage = os.wait4(run.pid, 0)
    assert status == 0 and done == units, (status, done)
    return last - begun, usage.ru_maxrss / 1024

def one():
    rack(1, 1, "one")
    subprocess.run([bin, "-q", "--rack", "one", "rack", "insert", "c0", "r0"], check=True, stdout=subprocess.DEVNULL)
    begun = time.time()
    run = subprocess.Popen([bin, "-q", "--rack", "one", "write", "hut.img.zst", "--to", "rack:r0", "--yes"])
    _, status, usage = os.wait4(run.pid, 0)
    assert status == 0
    return time.time() - begun, usage.ru_maxrss / 1024

print(f"cards of {SPEED // 1_000_000} MB/s writing, {READ // 1_000_000} MB/s reading")
alone, memory = one()
print(f"one card by write          {alone:7.1f} s   peak {memory:4.0f} MiB")
took, memory = batch(1, 1, "single")
print(f"a batch of one             {took:7.1f} s   peak {memory:4.0f} MiB")
took, memory = batch(units, readers, "many")
rounds = -(-units // readers)
print(f"{units} units at {readers} readers      {took:7.1f} s   peak {memory:4.0f} MiB   "
      f"{took / (rounds * alone):.2f} of {rounds} cards one after the other")
PY
