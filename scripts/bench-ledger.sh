#!/usr/bin/env bash
# How a ledger of 100 000 receipts behaves: filling it, its size, and how long whole commands take, opening
# included. In SQLite, and in PostgreSQL if its programs are there (a cluster in a temporary directory).
#
# Usage: scripts/bench-ledger.sh [COUNT]
set -euo pipefail
cd "$(dirname "$0")/.."
count=${1:-100000}
cargo build --release --quiet -p pinewrit
cargo build --release --quiet -p pinewrit-ledger --example fill-ledger
bin=${CARGO_TARGET_DIR:-target}/release
work=$(mktemp -d)
server=
clean_up() {
  [ -z "$server" ] || { kill -INT "$server"; wait "$server"; } 2> /dev/null || true
  rm -rf "$work"
}
trap clean_up EXIT
export XDG_STATE_HOME=$work/state XDG_CONFIG_HOME=$work/config

# The median of nine runs, in milliseconds.
timed() {
  local times=()
  for _ in 1 2 3 4 5 6 7 8 9; do
    local begun=$EPOCHREALTIME
    "$@" > /dev/null
    times+=($(((${EPOCHREALTIME/./} - ${begun/./}) / 100)))
  done
  printf '%s\n' "${times[@]}" | sort -n | sed -n 5p | awk '{ printf "%.1f ms", $1 / 10 }'
}

measure() {
  local place=$1 number
  number=$(printf '%06d' $((count / 2)))
  for args in "ledger find larkfell-$number" "ledger find 10.0.1." "ledger find larkfell --last 50" \
    "ledger list --last 20" "ledger show larkfell-$number"; do
    # shellcheck disable=SC2086
    printf '  %-34s %s\n' "$args" "$(timed "$bin/pinewrit" --ledger "$place" $args)"
  done
}

echo "SQLite"
"$bin/examples/fill-ledger" "$work/ledger.sqlite" "$count" | sed 's/^/  /'
ls -l "$work"/ledger.sqlite* | awk -v count="$count" '{ all += $5 } END { printf "  %.1f MB, %.0f bytes a receipt\n", all / 1e6, all / count }'
measure "$work/ledger.sqlite"
rm "$work"/ledger.sqlite*

programs=$(ls -d /usr/lib/postgresql/*/bin 2> /dev/null | tail -1)
[ -n "$programs" ] || exit 0
as=()
if [ "$(id -u)" = 0 ]; then
  as=(setpriv --reuid postgres --regid postgres --clear-groups)
  chmod 755 "$work"
  install -d -o postgres "$work/cluster"
else
  mkdir "$work/cluster"
fi
port=54077
(cd / && "${as[@]}" "$programs/initdb" -D "$work/cluster/data" -A trust -U pinewrit > /dev/null)
(cd / && exec "${as[@]}" "$programs/postgres" -D "$work/cluster/data" -p $port -k "" -c listen_addresses=127.0.0.1 > "$work/log" 2>&1) &
server=$!
until "$programs/pg_isready" -q -h 127.0.0.1 -p $port; do sleep 0.1; done
"$programs/createdb" -h 127.0.0.1 -p $port -U pinewrit ledger
place=postgres://pinewrit@127.0.0.1:$port/ledger
echo "PostgreSQL"
"$bin/examples/fill-ledger" "$place" "$count" | sed 's/^/  /'
psql -h 127.0.0.1 -p $port -U pinewrit -At -c "select pg_database_size('ledger')" ledger |
  awk -v count="$count" '{ printf "  %.1f MB, %.0f bytes a receipt\n", $1 / 1e6, $1 / count }'
measure "$place"
