#!/usr/bin/env bash
# Measures what becomes of a drive beside the one write: gauge, save, copy, reclaim. Prints each figure with its ratio to the promise.
#
#   bench/drive.sh [FOLDER]     FOLDER takes 5 GB (default /dev/shm)
#
# The drives are those of a tray, throttled where a speed matters: what is measured is what the program adds.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
[ -x /usr/bin/time ] && command -v genisoimage >/dev/null || { echo "drive.sh: apt-get install time genisoimage" >&2; exit 2; }
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d "${1:-/dev/shm}/pyrotyp-drive.XXXXXX")
trap 'rm -rf "$folder"' EXIT
mkdir "$folder/tray"
cd "$folder"

drive() { # NAME BYTES BYTES_PER_SECOND
    printf '[[drive]]\nname = "%s"\nvendor = "Kestrin"\nmodel = "Pocket"\nserial = "KP-%s"\nbytes = %s\nbus = "usb"\nremovable = true\n' "$1" "$1" "$2"
    [ "$3" = 0 ] || printf '[[drive.fault]]\nkind = "slow"\nbytes_per_second = %s\n' "$3"
}
{
    drive first 1258291200 120000000
    drive second 1258291200 0
    drive third 1258291200 0
    drive slow 64023257088 10000000
    drive plain 32010928128 40000000
    drive laid 1258291200 120000000
} >tray/tray.toml
figure() { awk -v what="$1" -v is="$2" -v most="$3" -v unit="$4" 'BEGIN { printf "%-50s %9.2f %s, promised %g: %.2f\n", what, is, unit, most, is / most }'; }
tag() { "$program" drives --tray tray --state state --json | python3 -c 'import json, sys; print(next(d["tag"] for d in json.load(sys.stdin) if d["path"] == "tray:" + sys.argv[1]))' "$1"; }
# Seconds and peak memory (KiB) of a command, in `took`.
timed() { /usr/bin/time -o took -f '%e %M' "$program" "$@" --tray tray --state state --quiet >told 2>&1 || { cat told >&2; exit 1; }; }
seconds() { cut -d' ' -f1 took; }
memory() { figure "peak memory: $1" "$(awk '{ print $2 / 1024 }' took)" 96 MiB; }

# Half of it packs, half does not.
python3 - <<'PYTHON'
import random
noise = random.Random(1).randbytes(16 << 20)
with open("tray/first.img", "wb") as f:
    for number in range(75):
        f.write(noise if number % 2 else bytes(16 << 20))
PYTHON
first=$(tag first) second=$(tag second) third=$(tag third) slow=$(tag slow) plain=$(tag plain)

timed gauge "$first" --read
least=$(seconds)
timed save "$first" first.img --whole
figure "save at 120 MB/s, to reading alone" "$(awk -v took="$(seconds)" -v least="$least" 'BEGIN { print took / least }')" 1.03 times
memory save
cmp first.img tray/first.img
rm first.img first.img.sha256
timed save "$first" first.img.zst --whole
figure "save packed at 120 MB/s, to reading alone" "$(awk -v took="$(seconds)" -v least="$least" 'BEGIN { print took / least }')" 1.03 times
memory "save, packed"
rm first.img.zst*
timed gauge "$slow" --unattended --accept external-disk
figure "quick look at 64 GB, 10 MB/s" "$(seconds)" 60 s
memory "quick look"
timed gauge "$second" --whole --unattended
memory "whole test"
"$program" demo --keep cafe >/dev/null 2>&1
timed write cafe/images/larkspur-9.2-desktop-x86_64.iso --to "$second" --unattended
timed write "$second" --to "$third" --unattended
memory "drive to drive"
timed reclaim "$plain" --unattended
figure "reclaim of 32 GB, 40 MB/s" "$(seconds)" 3 s
memory reclaim
written=$(python3 -c 'import json, glob; print(json.load(open(max(glob.glob("state/jobs/*.json"))))["drives"][0]["written_bytes"])')
figure "written by it" "$(awk -v b="$written" 'BEGIN { print b / 1e6 }')" 24 MB

# An image of 50,000 files: laid out, against the very same bytes written as they are.
python3 - <<'PYTHON'
import random
from pathlib import Path
noise = random.Random(2).randbytes(64 << 10)
for number in range(50000):
    folder = Path("tree") / f"folder {number // 500}"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / f"File {number}.data").write_bytes(noise[number % 40000:][:number * 7919 % 20000])
(folder / "system.img").write_bytes(noise * 2048)
program = Path("tree/EFI/BOOT")
program.mkdir(parents=True)
PYTHON
genisoimage -quiet -R -V LARKSPUR -o laid.iso tree
rm -r tree
laid=$(tag laid)
timed unpack laid.iso --to "$laid" --unattended --accept nothing-to-start
memory "unpack of 50,000 files"
rate() { python3 -c 'import json, glob; drive = json.load(open(max(glob.glob("state/jobs/*.json"))))["drives"][0]; print(next(s["bytes"] / s["seconds"] for s in drive["stages"] if s["name"] == "body"))'; }
unpacked=$(rate)
timed save "$laid" laid.img
timed write laid.img --to "$laid" --unattended --accept just-verified --accept nothing-to-start
awk -v unpacked="$unpacked" -v raw="$(rate)" 'BEGIN { printf "%-50s %9.2f times, promised at least 0.95\n", "body of unpack, to a raw write of these bytes", unpacked / raw }'
