#!/usr/bin/env bash
# Runs every fuzz target for a while, from small seeds made of the café's images.
#
#   fuzz/run.sh [SECONDS]     for each target (default 15)
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
command -v cargo-fuzz >/dev/null || cargo install --quiet --locked cargo-fuzz
# Sanitizers are not in the stable compiler; what is fuzzed is built by it all the same.
export RUSTC_BOOTSTRAP=1
cargo build --release --quiet
seeds=$(mktemp -d)
trap 'rm -rf "$seeds"' EXIT
target/release/pyrotyp demo --keep "$seeds/cafe" >/dev/null 2>&1
image=$seeds/cafe/images/wrenfield-rescue-3.iso
mkdir "$seeds"/{inspect,fat,packed,lists}
# As the target lays it out: the first sectors, then what lies from 32 KiB on.
for file in "$seeds"/cafe/images/*.iso; do
    { head -c 2048 "$file"; head -c 62768 "$file" | tail -c 30000; } > "$seeds/inspect/$(basename "$file")"
done
esp=$(grep -abo -m 1 'MSWIN4.1' "$image" | sed -n '1s/:.*//p')
head -c "$((esp - 3 + 65536))" "$image" | tail -c 65536 > "$seeds/fat/esp"
head -c 20000 "$image" > "$seeds/part"
gzip -c "$seeds/part" > "$seeds/packed/gz"
xz -c "$seeds/part" > "$seeds/packed/xz"
bzip2 -c "$seeds/part" > "$seeds/packed/bz2"
cp "$seeds/cafe/images/SHA256SUMS" "$seeds/cafe/tray/tray.toml" "$seeds/lists/"
for target in inspect fat packed lists; do
    cargo fuzz run --fuzz-dir fuzz "$target" "$seeds/$target" -- -max_total_time="${1:-15}" -max_len=65536 -timeout=10 \
        -rss_limit_mb=2048 -verbosity=0 -print_final_stats=1 2>"$seeds/log" || { cat "$seeds/log" >&2; exit 1; }
    awk -v target="$target" '/number_of_executed_units/ { print target ": " $2 " executions, nothing found" }' "$seeds/log"
done
