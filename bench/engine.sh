#!/usr/bin/env bash
# Measures the engine on loop devices over memory, throttled and not, against what the device itself can do.
#
#   bench/engine.sh [PART...]     as root; parts: throttled free packed changed memory cost (default: all)
#
# Each figure stands beside its limit, in one run. `fio` gives the physical limit: 4 MiB, direct, four requests in flight.
# A drive that was written is compared with its image byte for byte: a fast wrong write is none.
# Not measured: real sticks, whose own speed hides all of this.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
[ "$(id -u)" = 0 ] || { echo "engine.sh: needs root for loop devices" >&2; exit 2; }
for tool in fio xz zstd gzip /usr/bin/time python3; do
    command -v "$tool" >/dev/null || { echo "engine.sh: apt-get install fio xz-utils zstd gzip time python3" >&2; exit 2; }
done
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d /dev/shm/pyrotyp-engine.XXXXXX)
group=/sys/fs/cgroup/blkio/pyrotyp-engine
devices=()
cleanup() {
    [ ${#devices[@]} = 0 ] || losetup --detach "${devices[@]}"
    rm -rf "$folder"
    [ ! -d "$group" ] || rmdir "$group" 2>/dev/null || true
}
trap cleanup EXIT

wanted() { [ ${#parts[@]} = 0 ] || [[ " ${parts[*]} " == *" $1 "* ]]; }
parts=("$@")
figure() { awk -v what="$1" -v is="$2" -v limit="$3" -v sense="$4" -v unit="${5:-}" 'BEGIN { printf "%-66s %8.3f%s (%s %g)\n", what, is, unit, sense, limit }'; }

# A drive of so many MiB, full of old data where asked.
drive() {
    truncate -s "$2M" "$folder/$1"
    device=$(losetup --find --show "$folder/$1")
    devices+=("$device")
}
give_back() { for device in "${devices[@]}"; do losetup --detach "$device"; done; devices=(); rm -f "$folder"/drive-*; }
tag_of() { "$program" drives --all --json | python3 -c 'import json,sys; print(next(d["tag"] for d in json.load(sys.stdin) if d["path"] == sys.argv[1]))' "$1"; }

# A job; its record goes to $folder/job.json. Fails unless all drives are verified.
job() {
    "$program" write "$@" --unattended --accept virtual-drive --accept just-verified --state "$folder/state" --quiet --json > "$folder/job.json"
}
# Something of the first drive of the last job: the seconds of a stage, bytes a second of it, or of all stages.
stage() { python3 - "$folder/job.json" "$1" "$2" <<'PY'
import json, sys
drives = json.load(open(sys.argv[1]))["drives"]
stages = {s["name"]: s for s in drives[0]["stages"]}
match sys.argv[3]:
    case "seconds": print(stages[sys.argv[2]]["seconds"])
    case "rate": print(stages[sys.argv[2]]["bytes"] / stages[sys.argv[2]]["seconds"])
    case "all": print(max(sum(s["seconds"] for s in d["stages"]) for d in drives))
    case "written": print(drives[0]["written_bytes"])
PY
}
equal() { cmp -n "$(stat -c %s "$1")" "$1" "$2" || { echo "engine.sh: the drive does not hold the image" >&2; exit 1; }; }
fio_rate() { fio --name=limit --filename="$1" --rw="$2" --bs=4M --direct=1 --ioengine="${3:-libaio}" --iodepth="${4:-4}" --numjobs="${5:-1}" \
    --size="$((image_mib / ${5:-1}))M" --offset_increment="$((image_mib / ${5:-1}))M" --group_reporting --output-format=json 2>/dev/null \
    | python3 -c 'import json,sys; j=json.load(sys.stdin)["jobs"][0]; print(max(j["read"]["bw_bytes"], j["write"]["bw_bytes"]))'; }
best() { sort -g | tail -n 1; }
middle() { sort -g | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }'; }
ratio() { awk -v a="$1" -v b="$2" 'BEGIN { print a / b }'; }

image_mib=1024
"$program" demo --keep "$folder/cafe" >/dev/null 2>&1
image=$folder/image.iso
cp "$folder/cafe/images/larkspur-9.2-desktop-x86_64.iso" "$image"
# Behind the image's start, files as an installed system has them: they pack as those of an installer do.
tar -C / -c --ignore-failed-read usr/lib usr/share usr/bin 2>/dev/null | head -c "${image_mib}M" >> "$image" || true
truncate -s "${image_mib}M" "$image"
(cd "$folder" && sha256sum image.iso > SHA256SUMS)

if wanted throttled; then
    mkdir -p "$group"
    echo "== throttled to 40 MB/s writing and 120 MB/s reading, $image_mib MiB"
    for n in 1 2 3 4; do
        drive "drive-$n" $((image_mib + 64))
        number=$(python3 -c 'import os,sys; r=os.stat(sys.argv[1]).st_rdev; print(f"{os.major(r)}:{os.minor(r)}")' "$device")
        echo "$number 40000000" > "$group/blkio.throttle.write_bps_device"
        echo "$number 120000000" > "$group/blkio.throttle.read_bps_device"
    done
    throttled() { (echo "$BASHPID" > "$group/cgroup.procs"; job "$@"); }
    tags=(); for d in "${devices[@]}"; do tags+=("$(tag_of "$d")"); done
    # Nothing to check: what is timed is the job itself.
    bare=$folder/bare/image.iso; mkdir "$folder/bare"; ln "$image" "$bare"
    begin=$(date +%s%N)
    throttled "$bare" --to "${tags[0]}"
    one=$(( ($(date +%s%N) - begin) / 1000000 ))
    equal "$image" "${devices[0]}"
    limit=$(awk -v mib=$image_mib 'BEGIN { bytes = mib * 1048576; print 1000 * (bytes / 40e6 + bytes / 120e6) }')
    figure "whole job against bytes/write rate + bytes/read rate" "$(ratio "$one" "$limit")" 1.03 "at most"
    # Without the head and the end, writes 0 bytes of the body where nothing differs.
    begin=$(date +%s%N)
    throttled "$bare" --to "${tags[0]}" --only-changed
    took=$(( ($(date +%s%N) - begin) / 1000000 ))
    figure "--only-changed on an equal drive against reading it" "$(awk -v ms="$took" -v mib=$image_mib 'BEGIN { print ms / (1000 * mib * 1048576 / 120e6) }')" 1.05 "at most"
    figure "   of the body it wrote" "$(stage body written)" 0 "at most" " bytes"
    begin=$(date +%s%N)
    throttled "$bare" --to "${tags[0]}" --to "${tags[1]}" --to "${tags[2]}" --to "${tags[3]}"
    four=$(( ($(date +%s%N) - begin) / 1000000 ))
    for d in "${devices[@]}"; do equal "$image" "$d"; done
    figure "four such drives at once against one" "$(ratio "$four" "$one")" 1.10 "at most"
    limited() { (echo "$BASHPID" > "$group/cgroup.procs"; image_mib=256; fio_rate "${devices[0]}" "$@"); }
    figure "io_uring against four threads (both by fio), writing" "$(ratio "$(limited write io_uring 4 1)" "$(limited write psync 1 4)")" 1.05 "worth it above"
    give_back
fi

if wanted free; then
    echo "== not throttled, $image_mib MiB, best of five in turn"
    drive drive-1 $((image_mib + 64))
    tag=$(tag_of "$device")
    : > "$folder/rates"
    for _ in 1 2 3 4 5; do
        fio_rate "$device" write > "$folder/fio-write.$RANDOM"
        fio_rate "$device" read > "$folder/fio-read.$RANDOM"
        fio_rate "$device" write psync 1 4 > "$folder/threads-write.$RANDOM"
        fio_rate "$device" write io_uring 4 1 > "$folder/uring-write.$RANDOM"
        fio_rate "$device" read psync 1 4 > "$folder/threads-read.$RANDOM"
        fio_rate "$device" read io_uring 4 1 > "$folder/uring-read.$RANDOM"
        job "$image" --to "$tag"
        stage body rate > "$folder/body.$RANDOM"
        stage read-back rate > "$folder/back.$RANDOM"
    done
    equal "$image" "$device"
    of() { cat "$folder/$1".* | best; }
    awk -v w="$(of fio-write)" -v r="$(of fio-read)" 'BEGIN { printf "fio: writes %.0f MB/s, reads %.0f MB/s\n", w / 1e6, r / 1e6 }'
    figure "body against fio's write rate" "$(ratio "$(of body)" "$(of fio-write)")" 0.9 "at least"
    figure "read-back against fio's read rate" "$(ratio "$(of back)" "$(of fio-read)")" 0.8 "at least"
    figure "io_uring against four threads (both by fio), writing" "$(ratio "$(of uring-write)" "$(of threads-write)")" 1.05 "worth it above"
    figure "io_uring against four threads (both by fio), reading" "$(ratio "$(of uring-read)" "$(of threads-read)")" 1.05 "worth it above"
    give_back
fi

if wanted packed; then
    echo "== packed images, best of three in turn"
    gzip -6 -c "$image" > "$image.gz"; zstd -q -T0 -10 "$image" -o "$image.zst"; xz -T0 -2 --block-size=16MiB -c "$image" > "$image.xz"
    drive drive-1 $((image_mib + 64))
    tag=$(tag_of "$device")
    limit=$(for _ in 1 2 3; do fio_rate "$device" write; done | best)
    for kind in gz zst xz; do
        case $kind in gz) unpack="gzip -dc";; zst) unpack="zstd -dcq";; xz) unpack="xz -dc -T0";; esac
        for _ in 1 2 3; do
            begin=$(date +%s%N); $unpack "$image.$kind" > /dev/null
            awk -v ns=$(($(date +%s%N) - begin)) -v mib=$image_mib 'BEGIN { print mib * 1048576e9 / ns }' >> "$folder/tool.$kind"
            job "$image.$kind" --to "$tag"
            stage body rate >> "$folder/ours.$kind"
        done
        equal "$image" "$device"
        tool=$(best < "$folder/tool.$kind")
        lower=$(awk -v a="$tool" -v b="$limit" 'BEGIN { print a < b ? a : b }')
        figure "body from .$kind against $unpack > /dev/null ($(awk -v r="$tool" 'BEGIN { printf "%.0f MB/s", r / 1e6 }'))" "$(ratio "$(best < "$folder/ours.$kind")" "$lower")" 0.95 "at least"
    done
    rm "$image".gz "$image".zst "$image".xz
    give_back
fi

if wanted memory; then
    echo "== peak memory, 4 GiB"
    large=$folder/large.iso
    cp "$image" "$large"; truncate -s 4G "$large"
    tags=()
    for n in 1 2 3; do drive "drive-$n" 4160; tags+=(--to "$(tag_of "$device")"); done
    peak() { /usr/bin/time -f %M -o "$folder/peak" "$program" write "$large" "$@" --unattended --accept virtual-drive --accept just-verified \
        --state "$folder/state" --quiet > /dev/null; awk '{ print $1 / 1024 }' "$folder/peak"; }
    one=$(peak "${tags[@]:0:2}"); three=$(peak "${tags[@]}")
    figure "one drive" "$one" 96 "at most" " MiB"
    figure "each further one" "$(awk -v a="$one" -v b="$three" 'BEGIN { print (b - a) / 2 }')" 24 "at most" " MiB"
    rm "$large"
    give_back
fi

if wanted cost; then
    echo "== processor time for 1 GiB written and verified"
    drive drive-1 $((image_mib + 64))
    tag=$(tag_of "$device")
    cost() { /usr/bin/time -f '%U %S' -o "$folder/cost" "$program" write "$1" --to "$tag" --unattended --accept virtual-drive --accept just-verified \
        --state "$folder/state" --quiet > /dev/null; awk -v what="$2" '{ printf "%-66s %.2f s in the program, %.2f s in the system\n", what, $1, $2 }' "$folder/cost"; }
    [ -e "$folder/bare/image.iso" ] || { mkdir "$folder/bare"; ln "$image" "$folder/bare/image.iso"; }
    cost "$image" "checked with SHA-256 before, then written and read back"
    cost "$folder/bare/image.iso" "without a checksum: SHA-256 on the way"
    give_back
fi
