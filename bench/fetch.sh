#!/usr/bin/env bash
# Times `fetch` from a server on this machine against `curl` that throws everything away, and against the checksum alone.
#
#   bench/fetch.sh [MIB]     size of the image, in MiB (default 1024); /dev/shm takes three times as much
#
# Measured: best of five runs in turn, with SHA-256 against a list beside the image; peak memory. Not measured: a real line.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
command -v curl /usr/bin/time >/dev/null || { echo "fetch.sh: apt-get install curl time" >&2; exit 2; }
cargo build --release --quiet
cargo build --release --quiet -p pyrotyp-sample --example mirror
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d /dev/shm/pyrotyp-fetch.XXXXXX)
server=
trap '[ -z "$server" ] || kill "$server"; rm -rf "$folder"' EXIT
mkdir "$folder/served" "$folder/here"
"$program" demo --keep "$folder/cafe" >/dev/null 2>&1
# A real image's start, and bytes that repeat nowhere behind it.
cp "$folder/cafe/images/larkspur-9.2-desktop-x86_64.iso" "$folder/served/image.iso"
head -c "$(( ${1:-1024} << 20 ))" /dev/urandom >> "$folder/served/image.iso"
(cd "$folder/served" && sha256sum image.iso > SHA256SUMS)
target/release/examples/mirror "$folder/served" > "$folder/address" &
server=$!
while [ ! -s "$folder/address" ]; do sleep 0.05; done
address=$(cat "$folder/address")image.iso

timed() { local begin; begin=$(date +%s%N); "$@" >/dev/null 2>&1; echo $(( ($(date +%s%N) - begin) / 1000 )) >> "$folder/$name.us"; }
for _ in 1 2 3 4 5; do
    name=curl timed curl --silent --output /dev/null "$address"
    name=sum timed "$program" check --quiet "$folder/served/image.iso"
    name=fetch timed /usr/bin/time -f %M -o "$folder/memory" "$program" fetch "$address" --into "$folder/here" --quiet
    cmp -s "$folder/served/image.iso" "$folder/here/image.iso" || { echo "fetch.sh: what came is not what was served" >&2; exit 1; }
    rm -r "$folder/here" && mkdir "$folder/here"
done
best() { sort -n "$folder/$1.us" | head -n 1; }
awk -v fetch="$(best fetch)" -v curl="$(best curl)" -v sum="$(best sum)" -v memory="$(cat "$folder/memory")" 'BEGIN {
    slower = curl > sum ? curl : sum
    printf "curl alone %.0f ms, SHA-256 alone %.0f ms, fetch with SHA-256 %.0f ms\n", curl / 1000, sum / 1000, fetch / 1000
    printf "rate of fetch against the slower of the two: %.2f (at least 0.9)\n", slower / fetch
    printf "peak memory of fetch: %.1f MiB (at most 96)\n", memory / 1024
}'
