#!/usr/bin/env bash
# Measures what the program promises to stay below, and prints each figure with its ratio to the promise.
#
#   bench/limits.sh [FOLDER]     as root; FOLDER takes 5 GB (default /dev/shm)
#
# Measured: peak memory of a 4 GiB write, what `inspect` reads of a 6 GB image and how long it takes, how long `drives` takes, and when
# the card of `write` comes for a 6 GB image that is still to be compared.
# Not measured: how fast anything is on a real stick.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
[ "$(id -u)" = 0 ] || { echo "limits.sh: needs root for a loop device" >&2; exit 2; }
for tool in strace /usr/bin/time; do
    command -v "$tool" >/dev/null || { echo "limits.sh: apt-get install strace time" >&2; exit 2; }
done
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d "${1:-/dev/shm}/pyrotyp-limits.XXXXXX")
devices=()
trap '[ ${#devices[@]} = 0 ] || losetup --detach "${devices[@]}"; rm -rf "$folder"' EXIT

"$program" demo --keep "$folder/cafe" >/dev/null 2>&1
image=$folder/cafe/images/larkspur-9.2-desktop-x86_64.iso
large() { cp "$image" "$2"; truncate -s "$1" "$2"; }
figure() { awk -v what="$1" -v is="$2" -v most="$3" -v unit="$4" 'BEGIN { printf "%-46s %10.1f %s, promised %g: %.2f\n", what, is, unit, most, is / most }'; }

large 6G "$folder/six.iso"
strace -f -e trace=read,pread64 -o "$folder/trace" "$program" inspect "$folder/six.iso" >/dev/null
figure "read by inspect of a 6 GB image" "$(awk -F'= ' '{ bytes += $NF } END { print bytes / 1048576 }' "$folder/trace")" 4 MiB

best=$(for _ in 1 2 3 4 5; do begin=$(date +%s%N); "$program" inspect "$folder/six.iso" >/dev/null; echo $(( ($(date +%s%N) - begin) / 1000 )); done | sort -n | head -n 1)
figure "inspect of a 6 GB image, warm" "$(awk -v us="$best" 'BEGIN { print us / 1000 }')" 20 ms
for number in $(seq 12); do
    truncate -s 64M "$folder/drive-$number"
    devices+=("$(losetup --find --show "$folder/drive-$number")")
done
best=$(for _ in 1 2 3 4 5; do begin=$(date +%s%N); "$program" drives --all >/dev/null; echo $(( ($(date +%s%N) - begin) / 1000 )); done | sort -n | head -n 1)
figure "drives, with 12 more of them, best of five" "$(awk -v us="$best" 'BEGIN { print us / 1000 }')" 50 ms

mkdir "$folder/tray"
printf '[[drive]]\nname = "a"\nmodel = "Pocket"\nserial = "KP-a"\nbytes = 8000000000\nbus = "usb"\nremovable = true\n' >"$folder/tray/tray.toml"
printf '%064d  six.iso\n' 0 >"$folder/SHA256SUMS"
card=$(python3 - "$program" "$folder" <<'PYTHON'
import os, pty, signal, sys, time
program, folder = sys.argv[1:]
begin = time.monotonic()
child, terminal = pty.fork()
if child == 0:
    os.execv(program, [program, "write", f"{folder}/six.iso", "--to", "tray:a", "--tray", f"{folder}/tray", "--state", f"{folder}/state"])
shown = b""
while b"type its tag" not in shown:
    shown += os.read(terminal, 4096)
took = time.monotonic() - begin
assert b"being compared: SHA-256 with " in b" ".join(shown.split()), shown
os.kill(child, signal.SIGINT)
print(int(took * 1000))
PYTHON
)
figure "the card of a 6 GB image, comparing behind it" "$card" 1000 ms

large 4G "$folder/four.iso"
truncate -s 4500M "$folder/drive"
device=$(losetup --find --show "$folder/drive")
devices+=("$device")
tag=$("$program" drives --all | awk -v device="$device" '$NF == device { print $1 }')
/usr/bin/time -f %M -o "$folder/memory" "$program" write "$folder/four.iso" --to "$tag" --unattended \
    --accept virtual-drive --quiet --state "$folder/state" | grep -q '^verified' || { echo "limits.sh: the write was not verified" >&2; exit 1; }
figure "peak memory of a 4 GiB write" "$(awk '{ print $1 / 1024 }' "$folder/memory")" 96 MiB
