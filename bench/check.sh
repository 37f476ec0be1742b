#!/usr/bin/env bash
# Times computing checksums against `openssl dgst`, and several at once against the slowest of them alone.
#
#   bench/check.sh [MIB]     size of the file, in MiB (default 512)
#
# Measured: best of five runs in turn, on a file in the page cache. Not measured: reading from a disk.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d /dev/shm/pyrotyp-check.XXXXXX)
trap 'rm -rf "$folder"' EXIT
file=$folder/image
head -c "$(( ${1:-512} << 20 ))" /dev/urandom > "$file"
# Not beside the file, where they would be taken for lists of its publisher's.
mkdir "$folder/known"
for kind in md5 sha256 sha512; do
    openssl dgst "-$kind" -r "$file" | awk -v kind="$kind" '{ print kind ":" $1 }' > "$folder/known/$kind"
done
zeros=$(printf '0%.0s' $(seq 64))

timed() { local begin; begin=$(date +%s%N); "$@" >/dev/null 2>&1 || true; echo $(( ($(date +%s%N) - begin) / 1000 )) >> "$folder/$name.us"; }
sum() { cat "$folder/known/$1"; }
# The file is noise: its sums are right, and that it is no image ends it with status 3.
ours() { "$program" check --quiet "$file" "$@" 2>/dev/null || [ $? = 3 ]; }
# The right sums must be found right: a fast wrong answer is none.
ours --sum "$(sum md5)" --sum "$(sum sha256)" --sum "$(sum sha512)" >/dev/null
for _ in 1 2 3 4 5; do
    name=openssl timed openssl dgst -sha256 "$file"
    name=sha256 timed ours
    name=four timed ours --sum "$(sum md5)" --sum "$(sum sha256)" --sum "$(sum sha512)" --sum "blake3:$zeros"
done
best() { sort -n "$folder/$1.us" | head -n 1; }
ratio() { awk -v what="$1" -v a="$2" -v b="$3" -v most="$4" 'BEGIN { printf "%-52s %8.0f ms against %8.0f ms: %.2f (at most %g)\n", what, a / 1000, b / 1000, a / b, most }'; }
ratio "SHA-256 against openssl dgst -sha256" "$(best sha256)" "$(best openssl)" 1.15
ratio "MD5, SHA-256, SHA-512, BLAKE3 against SHA-256 alone" "$(best four)" "$(best sha256)" 1.40
