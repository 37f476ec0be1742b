#!/usr/bin/env bash
# Runs every fuzz target for a while, from small seeds made of the café's images.
#
#   fuzz/run.sh [SECONDS]     for each target (default 15)
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
seconds=${1:-15}
# What runs for a moment is built in a sixth of the time: nobody waits for optimisation then.
hastily=()
[ "$seconds" -ge 10 ] || hastily=(--config profile.dev.package.pyrotyp-core.opt-level=0 --config profile.dev.package.pyrotyp-fuzz.opt-level=0)
# Only the project's own code is watched by the fuzzer, so that its dependencies are those of an ordinary build.
cargo build --quiet --locked
CARGO_INCREMENTAL=0 RUSTC_WORKSPACE_WRAPPER=$PWD/fuzz/watched-rustc.sh cargo build --quiet --locked --package pyrotyp-fuzz "${hastily[@]}"
seeds=$(mktemp -d)
trap 'rm -rf "$seeds"' EXIT
target/debug/pyrotyp demo --keep "$seeds/cafe" >/dev/null 2>&1
image=$seeds/cafe/images/wrenfield-rescue-3.iso
mkdir "$seeds"/{inspect,fat,packed,lists,signatures,torrents,supply,storage,spare,tree,under_way,keyholder}
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
signed=sample/signed
# As the target lays it out: the length of the key in two bytes, the key, the signature.
join() {
    local bytes
    bytes=$(stat -c %s "$signed/$1")
    { printf '%b' "$(printf '\\x%02x\\x%02x' $((bytes % 256)) $((bytes / 256)))"; cat "$signed/$1" "$signed/$2"; } \
        > "$seeds/signatures/$1-$2"
}
for made in list.asc clear-signed.asc list.sig; do join releases.key "$made"; done
join revoked.key by-revoked.asc
join expired.key by-expired.asc
join minisign.pub list.minisig
join signify.pub signify-list.sig
printf 'd4:infod6:lengthi40000e4:name1:a12:piece lengthi65536e6:pieces20:%020dee' 0 > "$seeds/torrents/first"
head -c 36864 "$seeds/cafe/images/larkspur-9.2-compact-i686.iso" | tail -c 4096 > "$seeds/torrents/volume"
cp "$seeds/cafe/catalogue.toml" "$seeds/supply/"
cat > "$seeds/supply/metalink" <<END
<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="a.iso"><size>1024</size><pieces type="sha-1" length="1024"><hash>$(printf '%040d' 0)</hash></pieces><url priority="1" location="de">http://a.example/a.iso</url></file></metalink>
END
for how in 0 1 2 3 4 5 128; do
    printf '%b%s' "\\x$(printf %02x $how)\\x1d\\xff\\xff\\xff\\xff\\xff\\xff\\xff\\xff\\x01\\x02\\x03\\x04" Holiday >"$seeds/storage/$how"
done
for how in 0 1 2 3; do
    printf '%b%s\n%s\n%s\n%s\n%s\n' "\x0$how\x10\x00\x40" live/system.img BOOT/GRUB/grub.cfg 'Letter to Ann.txt' 'letter~1.TXT' photos/ >"$seeds/tree/$how"
done
for file in "$seeds"/cafe/images/*.iso; do
    { printf '\x40\x00\x02\x03'; head -c 20480 "$file"; } >"$seeds/spare/$(basename "$file")"
done
printf '{"version":1,"drive":"DBR7J","drive_bytes":8388608,"seed":"x"}\n' >"$seeds/under_way/kept"
printf '{"version":1,"drive":"DBR7J","drive_bytes":8388608,"bytes":4194304,"done":512,"unreadable":[{"start":0,"end":512}],"frames":[]}' >"$seeds/under_way/map"
printf '"Uses"' >"$seeds/keyholder/uses"
for name in sda sdb sda1; do
    printf '{"Read":[{"name":"%s","bytes":1048576,"generation":null},"Cached"]}' $name >"$seeds/keyholder/read-$name"
    printf '{"Claim":[{"name":"%s","bytes":1048576,"generation":null},["mpv (process 7)"]]}' $name >"$seeds/keyholder/claim-$name"
done
printf '{"Release":[1,"Eject"]}' >"$seeds/keyholder/release"
for target in inspect fat packed lists signatures torrents supply storage spare tree under_way keyholder; do
    "target/debug/$target" "$seeds/$target" -max_total_time="$seconds" -max_len=65536 -timeout=10 \
        -rss_limit_mb=2048 -verbosity=0 -print_final_stats=1 2>"$seeds/log" || { cat "$seeds/log" >&2; exit 1; }
    awk -v target="$target" '/number_of_executed_units/ { print target ": " $2 " executions, nothing found" }' "$seeds/log"
done
