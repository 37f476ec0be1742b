#!/usr/bin/env bash
# Measures what the ledger promises with 10,000 records, and with 100,000, and prints each figure with its ratio to the promise.
#
#   bench/ledger.sh [FOLDER]     FOLDER takes 600 MB (default /dev/shm)
#
# Measured, each the best of five but for the first: making the index anew, listing, one stick's history, and `drives`, which asks the
# records for every drive. Not measured: a disk that is slow.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d "${1:-/dev/shm}/pyrotyp-ledger.XXXXXX")
trap 'rm -rf "$folder"' EXIT
figure() { awk -v what="$1" -v us="$2" -v most="$3" 'BEGIN { printf "%-46s %10.1f ms, promised %g: %.2f\n", what, us / 1000, most, us / 1000 / most }'; }
once() { local begin; begin=$(date +%s%N); "$@" >/dev/null; echo $((($(date +%s%N) - begin) / 1000)); }
best() { for _ in 1 2 3 4 5; do once "$@"; done | sort -n | head -n 1; }

cd "$folder"
"$program" demo --keep cafe >/dev/null 2>&1
cd cafe
"$program" write images/larkspur-9.2-desktop-x86_64.iso --to DBR7J --unattended --tray tray --state state --quiet >/dev/null
measure() { # RECORDS, and what is promised in ms: the index, anything else
python3 - state/jobs "$1" <<'PYTHON'
import json, pathlib, sys
folder, count = pathlib.Path(sys.argv[1]), int(sys.argv[2])
record = json.loads(next(folder.glob("*.json")).read_text())
for number in range(count):
    day, time = 20200101 + number // 500, number % 500
    record["job"] = f"{day}-{time:06}-{number % 300:05}"
    record["drives"][0]["tag"] = f"{number % 300:05}"
    (folder / (record["job"] + ".json")).write_text(json.dumps(record))
PYTHON
figure "the index of $1 records" "$(once "$program" ledger --state state)" "$2"
figure "ledger, 20 of $1 listed" "$(best "$program" ledger --state state)" "$3"
figure "ledger drive, one of 300" "$(best "$program" ledger drive 00042 --state state)" "$3"
figure "drives, with what the records tell" "$(best "$program" drives --all --tray tray --state state)" "$3"
}
measure 10000 3000 100
measure 100000 30000 1000
