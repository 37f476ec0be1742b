#!/usr/bin/env python3
"""Plays Pyrotyp on real USB drives under a real kernel, and starts PCs from what it wrote.

    play.py PROGRAM [NAME...]     all plays, or only those named
    play.py PROGRAM --daily       all but those that say more of what is made than of who writes where

Needs root (loop devices), a cache that setup.sh filled, and the network for one Debian package: memtest86+,
whose hybrid images nobody here made.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import re
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from lab import run
from scenario import Drive, Event, Fault, Mount, Scenario

HERE = Path(__file__).resolve().parent
MIB = 1 << 20
# A machine that builds beside this takes three times as long; a limit is for what hangs.
PATIENCE = 3
MEMTEST_BLUE = "0000aa"
VFAT = ["vfat", "nls_ascii", "nls_cp437"]


class Failed(Exception):
    """A play did not end as it should."""


def expect(shown: bool, what: str, seen: Any = "") -> None:
    if not shown:
        raise Failed(f"{what}\n{seen}")


def sh_bytes(*words: str | Path) -> bytes:
    return subprocess.run([str(word) for word in words], check=True, stdout=subprocess.PIPE).stdout


def sh(*words: str | Path, status: int | None = 0, **more: Any) -> str:
    done = subprocess.run([str(word) for word in words], capture_output=True, text=True, **more)
    if status is not None:
        expect(done.returncode == status, f"exit {done.returncode} from {' '.join(map(str, words))}",
               done.stdout + done.stderr)
    return done.stdout


class Bench:
    """A folder with the café's images, and the program."""

    def __init__(self, program: Path, folder: Path) -> None:
        self.program, self.folder = program, folder
        sh(program, "demo", "--keep", folder / "cafe")
        self.tags: dict[str, str] = {}
        self.written: dict[Path, Path] = {}
        self.asked, self.writing = threading.Lock(), threading.Lock()
        self.desktop = folder / "cafe/images/larkspur-9.2-desktop-x86_64.iso"

    def tag_of(self, serial: str) -> str:
        """The tag of one of the drives that `drives_are_known_again` has seen."""
        with self.asked:
            if not self.tags:
                drives_are_known_again(self)
        return self.tags[serial]

    def on_loop(self, image: Path) -> Path:
        """Writes an image to a loop device, compares, and gives the file behind it."""
        with self.writing:
            if image not in self.written:
                self.written[image] = self.write_on_loop(image)
        return self.written[image]

    def write_on_loop(self, image: Path) -> Path:
        file = self.folder / f"{image.stem}.drive"
        with file.open("wb") as f:
            f.truncate(64 * MIB)
        device = sh("losetup", "--find", "--show", file).strip()
        try:
            listed = json.loads(sh(self.program, "drives", "--all", "--json"))
            tag = next(drive["tag"] for drive in listed if drive["path"] == device)
            state = self.folder / "state"
            told = sh(self.program, "write", image, "--to", tag, "--unattended", "--state", state,
                      "--accept", "virtual-drive", "--accept", "just-verified")
            expect(told.startswith("verified"), "the write is verified", told)
            expect(sh(self.program, "compare", tag, image).startswith("verified"), "the drive compares equal")
        finally:
            sh("losetup", "--detach", device)
        return file

    def boot(self, stick: Path, firmware: str, *more: str) -> dict[str, Any]:
        """Starts a PC from a stick, and tells what came up."""
        told = sh(sys.executable, HERE / "trial_boot.py", stick, "--firmware", firmware, "--json", *more, status=None)
        return json.loads(told)

    def play(self, script: str, **scenario: Any) -> dict[str, Any]:
        """Runs a shell script in the guest, where `pyrotyp` is the program and `$DESKTOP` the image."""
        work = Path(tempfile.mkdtemp(dir=self.folder))
        program = work / "program.sh"
        program.write_text("#!/bin/bash\n. \"$LAB_TOOLS\"\n"
                           f"pyrotyp() {{ $LAB_HOST{self.program} \"$@\" --state $LAB_OUT/state; }}\n"
                           f"DESKTOP=$LAB_HOST{self.desktop}\n"
                           "tag() { pyrotyp drives --all | sed -n \"s/^\\([^ ]*\\) .*$1.*/\\1/p\"; }\n"
                           # How many of these tags' jobs have noted that their drive keeps two blocks: fewer are not gone on with.
                           "noted() { grep -slE '\"blocks\":([2-9]|[0-9]{2})' $(printf \"$LAB_OUT/state/under-way/%s.jsonl \" \"$@\") | wc -l; }\n"
                           + script)
        program.chmod(0o755)
        limit = PATIENCE * scenario.pop("limit", 120)
        result = run(Scenario(program=str(program), limit=limit, **scenario), work / "work")
        expect(result["ended"] in ("exit", "power-cut") and not result["problem"], "the scenario ran", result)
        result["said"] = result["stdout"] + result["stderr"]
        result["work"] = str(work / "work")
        return result


def real_image_starts_pcs(bench: Bench) -> None:
    """The hybrid image of a Debian package, which nobody here made, is written and starts by BIOS and by UEFI."""
    sh("apt-get", "-qq", "-o", "APT::Sandbox::User=root", "download", "memtest86+", cwd=bench.folder)
    sh("dpkg", "-x", next(bench.folder.glob("memtest86+*.deb")), bench.folder / "memtest")
    for bits, archs in (("x64", {"x86-64"}), ("ia32", {"x86"})):
        image = bench.folder / f"memtest/usr/lib/memtest86+/memtest86+{bits}.iso"
        [seen] = json.loads(sh(bench.program, "inspect", image, "--json"))
        expect(seen["verdict"] == "ready" and seen["whole"] == "yes", "a real image is ready and whole", seen)
        found = {boot["arch"] for boot in seen["boots"] if boot["via"] == "esp"}
        expect(found == archs, f"EFI programs for {archs}", seen)
        cut = bench.folder / "cut.iso"
        # The EFI partition lies behind the declared end of the volume: without it, the file is not whole.
        cut.write_bytes(image.read_bytes()[: 3304 * 512])
        [short] = json.loads(sh(bench.program, "inspect", cut, "--json", status=3))
        expect(short["whole"] == "no", "an image without its EFI partition is cut short", short)
        if bits == "x64":
            stick = bench.on_loop(image)
    seen = bench.boot(stick, "bios", "--seconds", "180", "--until", "Memtest86+ v")
    expect("Memtest86+ v" in seen["screen"], "the BIOS starts the image", seen)
    seen = bench.boot(stick, "uefi", "--seconds", "270", "--colour", MEMTEST_BLUE)
    expect(seen["ended"] == "colour", "UEFI starts it: its screen is blue", seen)


def own_images_start_pcs(bench: Bench) -> None:
    """The café's image starts by BIOS and by UEFI once written."""
    stick = bench.on_loop(bench.desktop)
    for firmware in ("bios", "uefi"):
        seen = bench.boot(stick, firmware, "--seconds", "180", "--until", "started by")
        line = f"Larkspur Linux 9.2 Desktop: started by {firmware.upper()}"
        expect(line in seen["serial"] + seen["screen"], f"{firmware} starts it", seen)


def drives_have_roles(bench: Bench) -> None:
    """Stick, external disk and internal disk are told apart; a mounted stick is written, the others get nothing."""
    stick = bench.folder / "stick.img"
    with stick.open("wb") as f:
        f.truncate(64 * MIB)
    sh("sfdisk", "-q", stick, input="2048,,c\n")
    sh("mkfs.vfat", "-n", "HOLIDAY", "--offset", "2048", stick, str(63 * 1024))
    result = bench.play(
        """
        pyrotyp drives --all
        before=$(tag Pocket)
        pyrotyp write $DESKTOP --to $before --unattended || echo "write: $?"
        grep HOLIDAY /proc/mounts
        pyrotyp compare $before $DESKTOP || echo "compare: $?"
        pyrotyp write $DESKTOP --to $(tag Vault) --unattended; echo "external: $?"
        pyrotyp write $DESKTOP --to $(tag virtual) --unattended; echo "internal: $?"
        pyrotyp write $DESKTOP --to $LAB_DEV_disk --unattended --accept external-disk; echo "kernel name: $?"
        """,
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417", speed="high"),
                Drive("disk", vendor="Odalen", product="Vault", serial="OV1T", removable=False),
                Drive("inner", bus="virtio")],
        mounts=[Mount("stick", "/media/bench/HOLIDAY", type="vfat")],
        modules=VFAT)
    said = result["said"]
    for role in (r"stick +Kestrin Pocket .*USB 480 Mb/s", r"external +Odalen Vault .*USB 5 Gb/s", "internal +virtual"):
        expect(re.search(role, said) is not None, role, said)
    expect("it is in use at /media/bench/HOLIDAY, and the job will unmount it" in said, "the mount is told", said)
    expect(said.count("\nverified") == 2, "written and compared", said)
    expect("vfat" not in said, "the volume was unmounted", said)
    for refused in ("external: 5", "internal: 5", "kernel name: 5"):
        expect(refused in said, refused, said)
    for drive in ("disk", "inner"):
        expect(result["drives"][drive]["written_bytes"] == 0, f"{drive} got nothing", result["drives"])
    expect(stick.read_bytes().startswith(bench.desktop.read_bytes()), "the stick holds the image")


def a_stick_pulled_out_starts_no_pc(bench: Bench) -> None:
    """Unplugged in mid-write: exit 6 with a clear word, a blank head; written again it is verified."""
    result = bench.play(
        """
        slow=$(tag Pocket)
        pyrotyp drives --watch &
        pyrotyp write $DESKTOP --to $slow --unattended; echo "first: $?"
        echo pulled out
        lab_dev stick 20
        pyrotyp write $DESKTOP --to $slow --unattended; echo "second: $?"
        """,
        drives=[Drive("stick", vendor="Kestrin", product="Pocket", serial="KP16-004417", write_bps="8M")],
        events=[Event("unplug", drive="stick", written="stick:9M"),
                Event("plug", drive="stick", on="pulled out", delay=1.0)])
    said = result["said"]
    expect("first: 6" in said and "the drive is gone" in said, "the unplugging is told", said)
    expect("its head is blank: no PC starts from it" in said, "the head is blank", said)
    for event in ("attached", "left", "arrived"):
        expect(re.search(rf"{event} +\S+ +stick, Kestrin Pocket", said) is not None, f"the watch tells: {event}", said)
    expect("second: 0" in said and "\nverified" in said, "written again it is verified", said)


def a_power_cut_leaves_a_stick_that_starts_no_pc(bench: Bench) -> None:
    """The power goes in mid-write, on a drive with a volatile cache: neither firmware finds anything to start."""
    stick = bench.folder / "cut.img"
    # What it would have started before: the stick had been written well.
    stick.write_bytes(bench.on_loop(bench.desktop).read_bytes())
    result = bench.play(
        "pyrotyp write $DESKTOP --to $(tag Pocket) --unattended",
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417",
                      write_bps="8M", volatile_cache=True)],
        events=[Event("power-cut", written="stick:9M")])
    expect(result["ended"] == "power-cut", "the power was cut", result)
    expect(not any(stick.read_bytes()[:4096]), "the first sectors are blank")
    for firmware in ("bios", "uefi"):
        seen = bench.boot(stick, firmware, "--seconds", "25", "--still", "6")
        expect("started by" not in seen["serial"] + seen["screen"], f"{firmware} starts nothing", seen)


def a_power_cut_leaves_every_record_whole(bench: Bench) -> None:
    """The power goes in mid-write; the bench lies on a disk with a volatile cache: one job has ended, the other has begun, none is lost."""
    disk = bench.folder / "records.img"
    with disk.open("wb") as f:
        f.truncate(128 * MIB)
    sh("mkfs.ext4", "-q", disk)
    drives = [Drive("records", file=str(disk), vendor="Odalen", product="Shelf", serial="OS-1", size="128M", volatile_cache=True),
              Drive("stick", size="64M", vendor="Kestrin", product="Pocket", serial="KP16-004417", write_bps="6M")]
    mounts = [Mount("records", "/mnt/records", partition=0, type="ext4")]
    first = bench.play(
        f"""
        at() {{ $LAB_HOST{bench.program} "$@" --state /mnt/records/bench; }}
        write="write $DESKTOP --to $(tag Pocket) --unattended --quiet --accept just-verified"
        at $write; echo "first: $?"
        at $write & job=$!
        until grep -qsE '"blocks":[1-9]' /mnt/records/bench/under-way/*.jsonl || ! kill -0 $job; do sleep 0.1; done
        echo cut now; wait
        """,
        drives=drives, mounts=mounts, events=[Event("power-cut", on="cut now")], limit=240)
    expect(first["ended"] == "power-cut" and "first: 0" in first["said"], "the power was cut in the second job", first)
    second = bench.play(
        f"""
        at() {{ $LAB_HOST{bench.program} "$@" --state /mnt/records/bench; }}
        at ledger --json > $LAB_OUT/ledger.json; echo "listed: $?"
        echo damaged > /mnt/records/bench/ledger.sqlite
        at ledger; echo "again: $?"
        """,
        drives=drives[:1], mounts=mounts, limit=120)
    records = json.loads((Path(second["work"]) / "job/out/ledger.json").read_text())
    ends = [(record["result"], record["ended"] is not None) for record in records]
    expect(ends == [("stopped", False), ("verified", True)], "one job has begun, the other has ended", records)
    said = second["said"]
    expect("listed: 0" in said and "again: 0" in said and "begun" in said, "a damaged index is made again", said)
    expect("can't be read" not in said, "no record is torn", said)


def reclaimed_drives_mount_at_once(bench: Bench) -> None:
    """Sticks that were written become FAT, exFAT and ext4; the kernel mounts them and keeps up to a thousand files on each."""
    drives = [Drive(name, size=size, vendor="Kestrin", product=product, serial=f"KP-{name}", sector_size=sector)
              for name, size, product, sector in (("small", "64M", "Small", 512), ("large", "40G", "Large", 512), ("wide", "8G", "Wide", 4096))]
    result = bench.play(
        """
        try() { # PRODUCT DEVICE KIND TYPE FILES
            pyrotyp reclaim $(tag $1) --as $3 --unattended --quiet --accept just-verified; echo "$1 $3 reclaimed: $?"
            for i in $(seq 50); do [ -b ${2}1 ] && break; sleep 0.1; done
            mkdir -p /mnt/v; mount -t $4 ${2}1 /mnt/v || return
            mkdir /mnt/v/folder; for i in $(seq $5); do echo "file $i of $1" > "/mnt/v/folder/Datei $i é.txt"; done
            umount /mnt/v; mount -t $4 ${2}1 /mnt/v
            n=0; for i in $(seq $5); do
                read -r line < "/mnt/v/folder/Datei $i é.txt"; [ "$line" = "file $i of $1" ] && n=$((n + 1))
            done
            echo "$1 $3 kept: $n of $5"; umount /mnt/v
        }
        pyrotyp write $DESKTOP --to $(tag Small) --unattended --quiet > /dev/null
        for kind in fat32 exfat ext4; do
            type=$kind; [ $kind != fat32 ] || type=vfat
            try Small $LAB_DEV_small $kind $type 200; try Large $LAB_DEV_large $kind $type 1000; try Wide $LAB_DEV_wide $kind $type 200
        done
        """,
        drives=drives, modules=[*VFAT, "nls_utf8", "exfat", "ext4"], limit=500)
    said = result["said"]
    for name in ("Small", "Large", "Wide"):
        for kind in ("fat32", "exfat", "ext4"):
            expect(f"{name} {kind} reclaimed: 0" in said, f"{name} is reclaimed as {kind}", said)
            expect(re.search(rf"{name} {kind} kept: (\d+) of \1\n", said) is not None, f"{name} keeps its files on {kind}", said)


# One name in each script, and what is odd about names.
NAMES = ["Größe und Maß", "café à l’été", "Ελληνικά", "Кириллица", "עברית", "العربية", "हिन्दी", "ไทย", "中文檔案", "日本語テキスト", "한국어", "🦀 und 🐧",
         "x" * 251 + ".txt", "ж" * 120, ".hidden", "two  spaces", "LETTER~1.TXT", "Letter to Ann.txt", "Letter to Bob.txt", "UPPER.TXT", "MiXed.TxT",
         "a.b.c.d", "semi;colon,comma=equals+plus[brackets]", "percent%dollar$tilde~"]


def a_tree(folder: Path) -> dict[str, str]:
    """A folder of 10,000 files and their SHA-256: names in every script, deep folders, empty files."""
    random_bytes, sums = random.Random(11), {}

    def put(path: str, content: bytes) -> None:
        file = folder / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(content)
        sums[path] = hashlib.sha256(content).hexdigest()

    for number, name in enumerate(NAMES):
        put(f"names/{name}", random_bytes.randbytes(number * 977))
        put(f"names of folders/{name}/inside", name.encode())
    put("/".join(f"level {n}" for n in range(40)) + "/bottom.txt", b"deep")
    for number in range(10_000 - len(sums)):
        put(f"many/{number % 7}/Photo {number:05}.jpeg", b"" if number % 50 == 0 else random_bytes.randbytes(number * 37 % 9000))
    (folder / "an empty folder").mkdir()
    return sums


def the_longest_file(file: Path) -> None:
    """A file of 4 GiB less one byte, mostly holes."""
    bytes_long = 4096 * MIB - 1
    with file.open("wb") as f:
        f.truncate(bytes_long)
        for at in [*range(0, bytes_long, 512 * MIB), bytes_long - 4096]:
            f.seek(at)
            f.write(random.Random(at).randbytes(4096))


def files_of_composed_volumes_are_read_by_the_kernel(bench: Bench) -> None:
    """10,000 files as laid out on FAT32 and exFAT: the system's checkers find nothing, and the kernel reads each as it was given."""
    tree = bench.folder / "tree"
    sums = a_tree(tree)
    (bench.folder / "tree.sums").write_text("".join(f"{digest}  {path}\n" for path, digest in sums.items()))

    def compose(kind: str, file: str) -> Path:
        image = bench.folder / file
        sh(bench.program.parent / "examples/compose_tree", tree, kind, str(8 * 1024 * MIB), image)
        return image

    def is_clean(image: Path, checker: str) -> None:
        volume = bench.folder / f"{image.name}.volume"
        sh("dd", f"if={image}", f"of={volume}", "bs=1M", "skip=4", "conv=sparse", "status=none")
        volume.open("r+b").truncate(image.stat().st_size - 5 * MIB)
        sh(checker, "-n", volume)
        volume.unlink()

    # The checker counts the clusters of a file in 32 bits, and takes 4 GiB of them for none.
    is_clean(compose("fat32", "before.img"), "fsck.fat")
    the_longest_file(tree / "longest.img")
    drives = [Drive(kind, file=str(compose(kind, f"{kind}.img")), vendor="Kestrin", product=kind, serial=f"KP-{kind}")
              for kind in ("fat32", "exfat")]
    is_clean(bench.folder / "exfat.img", "fsck.exfat")
    # All of the longest file takes two minutes each.
    piece = 4096 * MIB if os.environ.get("PYROTYP_LAB_WHOLE") else 8 * MIB
    places = " ".join(str(at) for at in range(0, 4096 * MIB, max(piece, 2048 * MIB))) + f" {4096 * MIB - 8 * MIB}"
    result = bench.play(
        f"""
        try() {{ # DEVICE TYPE OPTIONS
            mkdir -p /mnt/v; mount -t $2 -o $3 ${{1}}1 /mnt/v; cd /mnt/v
            sha256sum --quiet -c $LAB_HOST{bench.folder}/tree.sums; echo "$2 sums: $?"
            for at in {places}; do cmp -i $at -n {piece} longest.img $LAB_HOST{tree}/longest.img || echo "$2 differs"; done
            echo "$2 files: $(find . -type f | wc -l), folders: $(find . -type d | wc -l)"; cd /; umount /mnt/v
        }}
        try $LAB_DEV_fat32 vfat ro,utf8; try $LAB_DEV_exfat exfat ro
        """,
        drives=drives, modules=[*VFAT, "nls_utf8", "exfat"], limit=900)
    said = result["said"]
    folders = sum(1 for path in tree.rglob("*") if path.is_dir()) + 1
    for kind in ("vfat", "exfat"):
        for what in ("sums: 0", f"files: {len(sums) + 1}, folders: {folders}"):
            expect(f"{kind} {what}\n" in said, f"{kind}: {what}", said[-2000:])
        expect(f"{kind} differs" not in said, f"{kind}: the longest file is equal", said[-2000:])


GRUB_CONFIG = """serial --unit=0 --speed=115200
terminal_output console serial
search --no-floppy --set=root --file /live/started.cfg
configfile /live/started.cfg
"""
STARTED = "Larkspur Linux 9.2 started from its files"


def an_optical_tree(folder: Path) -> dict[str, str]:
    """A live system's folder with a real loader, links and folders too deep for plain ISO 9660; SHA-256 of what is to lie on the stick."""
    (folder / "EFI/BOOT").mkdir(parents=True)
    config = folder.parent / "grub.cfg"
    config.write_text(GRUB_CONFIG)
    sh("grub-mkstandalone", "-O", "x86_64-efi", "-o", folder / "EFI/BOOT/BOOTX64.EFI",
       "--modules=part_msdos part_gpt fat search echo configfile sleep serial terminal", f"boot/grub/grub.cfg={config}")
    random_bytes = random.Random(5)
    files = {"live/started.cfg": f'echo "{STARTED}"\nsleep 600\n'.encode(), "live/system.img": random_bytes.randbytes(20 * MIB),
             "dists/trixie/Release": b"of this release", "/".join("abcdefghij") + "/bottom": b"deep",
             "docs/" + "a long name " * 12 + ".txt": b"long", "docs/empty": b""}
    for path, content in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(content)
    for path, target in (("dists/stable", "trixie"), ("docs/image", "../live/system.img"), ("self", "."), ("out", "/etc/hostname")):
        (folder / path).symlink_to(target)
    files |= {"EFI/BOOT/BOOTX64.EFI": (folder / "EFI/BOOT/BOOTX64.EFI").read_bytes(),
              "dists/stable/Release": files["dists/trixie/Release"], "docs/image": files["live/system.img"]}
    return {path: hashlib.sha256(content).hexdigest() for path, content in files.items()}


def unpacked_images_start_pcs(bench: Bench) -> None:
    """Three optical images made by the usual programs: their files are equal on the stick, links followed, and UEFI starts them."""
    folder = bench.folder / "optical"
    sums = an_optical_tree(folder / "tree")
    (folder / "sums").write_text("".join(f"{digest}  {path}\n" for path, digest in sums.items()))
    # The program that makes UDF leaves links out of it.
    plain = {path: digest for path, digest in sums.items() if path not in ("dists/stable/Release", "docs/image")}
    (folder / "udf.sums").write_text("".join(f"{digest}  {path}\n" for path, digest in plain.items()))
    images = {"gpt": ["genisoimage", "-R"], "mbr": ["genisoimage", "-R", "-J"], "udf": ["genisoimage", "-udf", "-R"]}
    for name, words in images.items():
        sh(*words, "-quiet", "-V", "LARKSPUR", "-o", folder / f"{name}.iso", folder / "tree")
    result = bench.play(
        f"""
        for name in {' '.join(images)}; do
            dev=$(eval echo \\$LAB_DEV_$name)
            table=$name; list=sums; [ $name != udf ] || {{ table=mbr; list=udf.sums; }}
            pyrotyp unpack $LAB_HOST{folder}/$name.iso --to $(tag $name) --table $table --unattended --quiet; echo "$name unpacked: $?"
            for i in $(seq 50); do [ -b ${{dev}}1 ] && break; sleep 0.1; done
            mkdir -p /mnt/v; mount -t vfat -o ro,utf8 ${{dev}}1 /mnt/v; cd /mnt/v
            sha256sum --quiet -c $LAB_HOST{folder}/$list; echo "$name sums: $?, files: $(find . -type f | wc -l)"; cd /; umount /mnt/v
        done
        """,
        drives=[Drive(name, size="700M", vendor="Kestrin", product=name, serial=f"KP-{name}") for name in images],
        modules=[*VFAT, "nls_utf8"], limit=300)
    for name in images:
        expect(f"{name} unpacked: 0\n" in result["said"], f"{name} is unpacked", result["said"])
        # Links are empty files there.
        count = len(plain) + 4 if name == "udf" else len(sums)
        expect(f"{name} sums: 0, files: {count}\n" in result["said"], f"{name}: every file is equal", result["said"])
        seen = bench.boot(Path(result["drives"][name]["file"]), "uefi", "--until", STARTED)
        expect(seen["ended"] == "until", f"UEFI starts {name}", seen)


def files_behind_an_image_stay_there(bench: Bench) -> None:
    """Partitions behind two images: the kernel mounts them, the image is proven with files in them, and the next release leaves them."""
    rescue = bench.folder / "cafe/images/wrenfield-rescue-3.iso"
    images = {"table": bench.desktop, "record": rescue}
    for name, image in images.items():
        content = bytearray(image.read_bytes())
        content[3 * MIB:3 * MIB + 9] = b"corrected"
        (bench.folder / f"next-{name}.iso").write_bytes(content)
    result = bench.play(
        f"""
        volumes() {{
            n=$2; for fs in vfat ext4; do
                for i in $(seq 50); do [ -b $dev$n ] && break; sleep 0.1; done
                mkdir -p /mnt/$fs; mount -t $fs $dev$n /mnt/$fs || echo "$1 $fs: no mount"
                (cd /mnt/$fs; $3) ; umount /mnt/$fs; n=$((n + 1))
            done
        }}
        put() {{ head -c 20000000 /dev/urandom > photo; sha256sum photo > sums; }}
        look() {{ sha256sum --quiet -c sums && echo "$name $fs: the photo is there"; }}
        name=table; image=$DESKTOP; first=3; dev=$LAB_DEV_table
        for round in 1 2; do
            pyrotyp write $image --to $(tag $name) --spare files:600MB --spare data::ext4 --unattended --quiet; echo "$name written: $?"
            volumes $name $first put
            pyrotyp compare $(tag $name) $image; echo "$name with its image: $?"
            pyrotyp compare $(tag $name); echo "$name by its record: $?"
            pyrotyp write $LAB_HOST{bench.folder}/next-$name.iso --to $(tag $name) --only-changed --unattended --accept just-verified --quiet
            echo "$name renewed: $?"
            volumes $name $first look
            name=record; image=$LAB_HOST{rescue}; dev=$LAB_DEV_record
        done
        """,
        drives=[Drive(name, size="900M", vendor="Kestrin", product=name, serial=f"KP-{name}") for name in images],
        modules=[*VFAT, "ext4"], limit=300)
    for name in images:
        for what in ("written", "with its image", "by its record", "renewed"):
            expect(f"{name} {what}: 0\n" in result["said"], f"{name} {what}", result["said"])
        for kind in ("vfat", "ext4"):
            expect(f"{name} {kind}: the photo is there\n" in result["said"], f"{name}: what lies in {kind} stays", result["said"])
        for firmware in ("bios", "uefi"):
            seen = bench.boot(Path(result["drives"][name]["file"]), firmware, "--seconds", "180", "--until", "started by")
            expect(f"started by {firmware.upper()}" in seen["serial"] + seen["screen"], f"{firmware} starts {name}", seen)


def doubted_sticks_are_gauged(bench: Bench) -> None:
    """A slow sound stick of 64 GB and two that claim too much: each is told within a minute, and keeps what was on it."""
    content = bytes(random.Random(7).randbytes(24 * MIB))
    files = {}
    for name, has in (("sound", 64), ("round", 7), ("lost", 5)):
        files[name] = bench.folder / f"{name}.img"
        with files[name].open("wb") as f:
            f.write(content)
            f.truncate(has << 30)
    result = bench.play(
        """
        for name in Sound Round Lost; do
            began=$(date +%s)
            pyrotyp gauge $(tag $name) --unattended --quiet --accept external-disk; echo "$name: $? in $(($(date +%s) - began)) s"
        done
        pyrotyp gauge $(tag Sound) --unattended --json --accept external-disk > $LAB_OUT/sound.json
        """,
        drives=[Drive("sound", file=str(files["sound"]), vendor="Kestrin", product="Sound", serial="KP-1", write_bps="10M", read_bps="20M"),
                Drive("round", file=str(files["round"]), vendor="Trelo", product="Round", serial="TT-2", size="32G", real_size="7G"),
                Drive("lost", file=str(files["lost"]), vendor="Trelo", product="Lost", serial="TT-3", size="32G", real_size="5G", beyond="drop")],
        limit=400)
    said = result["said"]
    seconds = {name: int(took) for name, took in re.findall(r"^(\w+): \d in (\d+) s$", said, re.M)}
    expect("Sound: 0 in" in said and "Round: 7 in" in said and "Lost: 7 in" in said, "each is told", said)
    expect(max(seconds.values()) < 60, "none takes a minute", seconds)
    expect(f"room for 7.5 GB ({7 << 30} bytes)" in said, "the true size of the one that counts round", said)
    lost = re.search(r"Trelo Lost\): it has room for [\d.]+ GB \((\d+) bytes\)", said)
    expect(lost is not None and 0 <= (5 << 30) - int(lost[1]) <= 4 * MIB, "and of the one that loses what it is given", said)
    for name, file in files.items():
        with file.open("rb") as f:
            expect(f.read(len(content)) == content, f"{name} holds what it held")
            # Nothing but what was put back was ever written there.
            kept = f.read(256 * MIB)
            expect(not any(kept), f"{name} holds nothing else")
    sound = json.loads((Path(result["work"]) / "job/out/sound.json").read_text())
    rates = [one["bytes_per_second"] for one in sound["write"]]
    expect(len(rates) > 30 and 5e6 < sorted(rates)[len(rates) // 2] < 13e6, "its speed is told", rates)


def a_power_cut_while_a_stick_is_gauged_costs_nothing(bench: Bench) -> None:
    """The power goes while marks are on the stick: `drives` says so, and `gauge --restore` restores the original bytes."""
    disk, stick = bench.folder / "kept.img", bench.folder / "gauged.img"
    with disk.open("wb") as f:
        f.truncate(128 * MIB)
    sh("mkfs.ext4", "-q", disk)
    content = random.Random(8).randbytes(192 * MIB)
    stick.write_bytes(content)
    drives = [Drive("records", file=str(disk), vendor="Odalen", product="Shelf", serial="OS-1", size="128M", volatile_cache=True),
              Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417", size="192M", write_bps="2M",
                    volatile_cache=True)]
    mounts = [Mount("records", "/mnt/records", partition=0, type="ext4")]
    first = bench.play(
        f"""
        at() {{ $LAB_HOST{bench.program} "$@" --state /mnt/records/bench; }}
        at gauge $(tag Pocket) --unattended --quiet
        """,
        drives=drives, mounts=mounts, events=[Event("power-cut", written="stick:3M")], limit=240)
    expect(first["ended"] == "power-cut", "the power was cut while it was looked at", first)
    expect(stick.read_bytes() != content, "there are marks on the stick")
    second = bench.play(
        f"""
        at() {{ $LAB_HOST{bench.program} "$@" --state /mnt/records/bench; }}
        at drives; echo "listed: $?"; at gauge $(tag Pocket) --restore; echo "restored: $?"; at drives; echo "again: $?"
        """,
        drives=drives, mounts=mounts, limit=240)
    said = second["said"]
    expect("listed: 0" in said and "restored: 0" in said, "the bytes are restored on request", said)
    expect(said.count("an interrupted quick test may have left test data") == 1, "drives only says so, and once", said)
    expect(stick.read_bytes() == content, "the stick holds what it held")


def drives_are_saved_and_copied(bench: Bench) -> None:
    """A written stick is saved, packed and copied to three others, one of which fails; one with bad sectors is saved as far as it can be read."""
    worn = bench.folder / "worn.img"
    worn.write_bytes(bench.on_loop(bench.desktop).read_bytes())
    sticks = [Drive(name, size="96M", vendor="Kestrin", product=product, serial=f"KP-{name}", read_bps="40M")
              for name, product in (("a", "First"), ("b", "Second"), ("c", "Third"))]
    result = bench.play(
        """
        say() { echo "$1: $2"; }
        pyrotyp write $DESKTOP --to $(tag First) --unattended --quiet; say written $?
        pyrotyp save $(tag First) $LAB_OUT/stick.img; say saved $?
        pyrotyp save $(tag First) $LAB_OUT/stick.img.zst --quiet; say packed $?
        pyrotyp check $LAB_OUT/stick.img --quiet; say checked $?
        pyrotyp save $(tag Worn) $LAB_OUT/worn.img --quiet; say worn $?
        pyrotyp write $(tag First) --to $(tag Second) --to $(tag Third) --to $(tag Failing) --unattended --quiet; say copied $?
        pyrotyp write $DESKTOP --to $(tag Third) --unattended --quiet --accept just-verified --save-first $LAB_OUT/third.img.zst; say kept $?
        """,
        drives=[*sticks, Drive("failing", size="96M", vendor="Kestrin", product="Failing", serial="KP-4", faults=[Fault("write", sector=20480)]),
                Drive("worn", file=str(worn), vendor="Kestrin", product="Worn", serial="KP-5", faults=[Fault("read", sector=9000), Fault("read", sector=9004)])],
        limit=300)
    said, out = result["said"], Path(result["work"]) / "job/out"
    for what, status in (("written", 0), ("saved", 0), ("packed", 0), ("checked", 0), ("worn", 6), ("copied", 6), ("kept", 0)):
        expect(f"{what}: {status}\n" in said, f"{what} ends with {status}", said)
    desktop = bench.desktop.read_bytes()
    expect((out / "stick.img").read_bytes() == desktop, "what was saved is the image")
    expect(bytes(sh_bytes("zstd", "-dc", out / "stick.img.zst")) == desktop, "and so is what was packed")
    expect(bytes(sh_bytes("zstd", "-dc", out / "third.img.zst")) == desktop, "what was erased is in its file")
    part = (out / "worn.img.part").read_bytes()
    bad = [9000, 9004]
    wanted = bytearray(desktop)
    for sector in bad:
        wanted[sector * 512:sector * 512 + 512] = bytes(512)
    expect(part == wanted, "all is there but what can't be read")
    found = json.loads((out / "worn.img.part.map").read_text())["unreadable"]
    expect([(r["start"] // 512, r["end"] // 512) for r in found] == [(s, s + 1) for s in bad], "the map tells where", found)
    for name in ("b", "c"):
        with open(result["drives"][name]["file"], "rb") as f:
            expect(f.read(len(desktop)) == desktop, f"{name} holds the image")


def drives_are_known_again(bench: Bench) -> None:
    """Sticks, a reader, an empty slot, an external and an internal disk: their roles, and the same tags elsewhere."""
    kinds = {"a": Drive("a", vendor="Kestrin", product="Pocket", serial="KP16-004417"),
             "b": Drive("b", vendor="Kestrin", product="Pocket", serial="KP16-004418"),
             "card": Drive("card", vendor="Brell", product="Card Reader", serial="BR-1"),
             "slot": Drive("slot", vendor="Brell", product="Card Reader", serial="BR-2", medium=False),
             "disk": Drive("disk", vendor="Odalen", product="Vault", serial="OV1T", removable=False),
             "inner": Drive("inner", bus="virtio")}
    script = """
        pyrotyp drives --all --json > $LAB_OUT/first.json
        echo out of their ports
        until [ "$(pyrotyp drives --json | grep -c KP16)" = 0 ]; do sleep 0.2; done
        echo back in another order
        until [ "$(pyrotyp drives --json | grep -c KP16)" = 2 ]; do sleep 0.2; done
        pyrotyp drives --all --json > $LAB_OUT/again.json
        """
    out = "out of their ports"
    seen = []
    # The other time, the first stick hangs on a USB 2 port, and everything in another place.
    for order, speed in ((list(kinds), "super"), (list(kinds)[::-1], "high")):
        kinds["a"].speed = speed
        result = bench.play(script, drives=[kinds[name] for name in order], events=[
            Event("unplug", drive="a", on=out), Event("unplug", drive="b", on=out),
            Event("plug", drive="b", on="back in another order"),
            Event("plug", drive="a", on="back in another order", delay=1.0)])
        out_folder = Path(result["work"]) / "job/out"
        for name in ("first", "again"):
            drives = json.loads((out_folder / f"{name}.json").read_text())
            seen.append({(d["serial"] or d["bus"]): (d["tag"], d["role"]) for d in drives})
    roles = {serial: role for serial, (_, role) in seen[0].items()}
    expect(roles == {"KP16-004417": "stick", "KP16-004418": "stick", "BR-1": "card", "BR-2": "card", "OV1T": "external",
                     "inner": "internal"} or roles.get("virtio") == "internal", "each has its role", roles)
    expect(all(later == seen[0] for later in seen), "the same tags and roles each time", seen)
    bench.tags = {serial: tag for serial, (tag, _) in seen[0].items()}


def the_drive_that_arrives_is_the_one(bench: Bench) -> None:
    """`--to arriving` takes the next drive plugged in, none that was there, and a reader once it has a card."""
    tag = bench.tag_of("KP16-004418")
    result = bench.play(
        "pyrotyp write $DESKTOP --to arriving; echo \"exit $?\"\n",
        drives=[Drive("there", vendor="Kestrin", product="Pocket", serial="KP16-004417"),
                Drive("late", vendor="Kestrin", product="Pocket", serial="KP16-004418", present=False)],
        events=[Event("plug", drive="late", on="plug the drive in now"), Event("type", text=f"{tag}\n", on="type its tag")],
        tty=True)
    said = result["terminal"]
    expect("exit 0" in said and "verified" in said, "it was written", said)
    expect(result["drives"]["there"]["written_bytes"] == 0, "the other got nothing", result["drives"])


def a_swap_before_the_answer_is_caught(bench: Bench) -> None:
    """While the card is read, a stick is exchanged for another, then a memory card for another of the same size."""
    stick, card = bench.tag_of("KP16-004417"), bench.tag_of("BR-1")
    result = bench.play(
        f"""
        pyrotyp write $DESKTOP --to {stick}; echo "stick: $?"
        echo now the card
        pyrotyp write $DESKTOP --to {card}; echo "card: $?"
        """,
        drives=[Drive("stick", vendor="Kestrin", product="Pocket", serial="KP16-004417"),
                Drive("other", vendor="Kestrin", product="Pocket", serial="KP16-004418", present=False),
                Drive("reader", vendor="Brell", product="Card Reader", serial="BR-1"),
                Drive("second", vendor="Brell", product="Card Reader", serial="BR-3", present=False)],
        events=[Event("unplug", drive="stick", on="type its tag"), Event("plug", drive="other", on="type its tag", delay=0.5),
                Event("type", text=f"{stick}\n", on="type its tag", delay=3.0),
                Event("eject", drive="reader", on="now the card", delay=4.0),
                Event("insert", drive="reader", medium="second", on="now the card", delay=5.0),
                Event("type", text=f"{card}\n", on="now the card", delay=8.0)],
        tty=True)
    said = result["terminal"]
    expect("stick: 5" in said and "card: 5" in said, "both were refused", said)
    expect("not attached any more" in said or "is not drive" in said, "the reason is told", said)
    for name, drive in result["drives"].items():
        expect(drive["written_bytes"] == 0, f"{name} got nothing", result["drives"])


def a_card_exchanged_while_the_image_waits_is_not_written(bench: Bench) -> None:
    """The image comes through a pipe that pauses; in the pause the card is exchanged, and another program polls the reader."""
    card = bench.tag_of("BR-1")
    result = bench.play(
        f"""
        (while :; do : < $LAB_DEV_reader; sleep 0.3; done) 2>/dev/null &
        poller=$!
        (head -c 6000000 $DESKTOP; sleep 2; echo the pipe pauses > /dev/tty; sleep 15; tail -c +6000001 $DESKTOP) \\
            | pyrotyp write - --to {card} --sum sha256:$(sha256sum $DESKTOP | cut -d ' ' -f 1); echo "card: $?"
        kill $poller
        """,
        drives=[Drive("reader", vendor="Brell", product="Card Reader", serial="BR-1"),
                Drive("second", vendor="Brell", product="Card Reader", serial="BR-3", present=False)],
        events=[Event("type", text=f"{card}\n", on="type its tag", delay=1.0),
                Event("eject", drive="reader", on="the pipe pauses", delay=3.0),
                Event("insert", drive="reader", medium="second", on="the pipe pauses", delay=5.0)],
        tty=True, limit=200)
    said = result["terminal"]
    expect("card: 6" in said or "card: 5" in said, "the job fails", said)
    expect("discard" not in said, "no drive is blamed", said)
    second = Path(result["drives"]["second"]["file"]).read_bytes()
    expect(not any(second), "the second card holds what it held")


def a_stick_pulled_out_while_it_is_compared_is_no_difference(bench: Bench) -> None:
    """A stick that goes away in mid-reading is told to be gone, with the status of a drive that failed."""
    stick = bench.folder / "compared.img"
    stick.write_bytes(bench.on_loop(bench.desktop).read_bytes())
    result = bench.play(
        """
        t=$(tag Pocket); echo "begins"
        pyrotyp compare $t $DESKTOP --json; echo "compared: $?"
        """,
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417", read_bps="3M")],
        events=[Event("unplug", drive="stick", on="begins", delay=3.0)])
    said = result["said"]
    expect("compared: 6" in said and '"id": "drive"' in said, "the drive failed, and does not differ", said)


def a_busy_volume_is_refused_with_who_uses_it(bench: Bench) -> None:
    """A stick of which somebody has a file open stays as it is, and that somebody is named."""
    stick = bench.folder / "busy.img"
    with stick.open("wb") as f:
        f.truncate(64 * MIB)
    sh("sfdisk", "-q", stick, input="2048,,c\n")
    sh("mkfs.vfat", "-n", "HOLIDAY", "--offset", "2048", stick, str(63 * 1024))
    before = stick.read_bytes()[: 1 * MIB]
    result = bench.play(
        """
        echo note > /media/bench/HOLIDAY/note
        tail -f /media/bench/HOLIDAY/note > /dev/null &
        pyrotyp write $DESKTOP --to $(tag Pocket) --unattended; echo "busy: $?"
        kill $!; wait
        """,
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417")],
        mounts=[Mount("stick", "/media/bench/HOLIDAY", type="vfat")],
        modules=VFAT)
    said = result["said"]
    expect("busy: 5" in said and "is used by tail" in said, "the refusal names the program", said)
    expect(stick.read_bytes()[: 1 * MIB] == before, "the stick is as it was")


def the_bench_lies_on_any_file_system(bench: Bench) -> None:
    """Shelf, records and notes on FAT, exFAT, NTFS and a shared folder: all of it works as at home, `--resume` too."""
    made = {"vfat": ("mkfs.vfat", "-F", "32"), "exfat": ("mkfs.exfat",), "ntfs": ("mkntfs", "--fast", "--force", "--quiet")}
    drives, mounts = [], []
    for kind, command in made.items():
        image = bench.folder / f"{kind}.img"
        with image.open("wb") as f:
            f.truncate(128 * MIB)
        sh(*command, image)
        drives.append(Drive(kind, file=str(image), vendor="Odalen", product="Shelf", serial=f"OS-{kind}"))
        if kind != "ntfs":  # Debian's kernel leaves NTFS to a program
            mounts.append(Mount(kind, f"/mnt/{kind}", partition=0, type=kind))
    stick = Drive("stick", size="64M", vendor="Kestrin", product="Pocket", serial="KP16-004417", write_bps="3M")
    result = bench.play(
        f"""
        mkdir -p /mnt/ntfs; ntfs-3g $LAB_DEV_ntfs /mnt/ntfs
        at() {{ local state=$1; shift; $LAB_HOST{bench.program} "$@" --state $state; }}
        for state in /mnt/vfat/bench /mnt/exfat/bench /mnt/ntfs/bench $LAB_OUT/bench; do
            at $state shelf add $DESKTOP --quiet > /dev/null || echo "$state: not shelved"
            write="write larkspur --to $(tag Pocket) --unattended --accept just-verified --state $state"
            $LAB_HOST{bench.program} $write & job=$!
            until grep -qsE '"blocks":([2-9]|[0-9]{{2}})' $state/under-way/*.jsonl || ! kill -0 $job; do sleep 0.2; done
            kill -TERM $job; wait $job; echo "$state: stopped $?"
            $LAB_HOST{bench.program} $write --resume; echo "$state: resumed $?"
            at $state shelf verify --quiet; echo "$state: verified $?"
            find $state -name '*.part*' -o -name '.tmp*'
            at $state shelf remove larkspur > /dev/null; echo "$state: removed $?"
        done
        """,
        drives=[stick, *drives], mounts=mounts, modules=[*VFAT, "exfat", "fuse"], limit=400)
    said = result["said"]
    for place in ("/mnt/vfat/bench", "/mnt/exfat/bench", "/mnt/ntfs/bench", "/bench"):
        for what in ("stopped 8", "resumed 0", "verified 0", "removed 0"):
            expect(f"{place}: {what}" in said, f"{place}: {what}", said)
    expect(said.count("going on: the drive has") == 4, "a job goes on from the notes kept there", said)


def unplugged_at_ten_points_a_job_goes_on(bench: Bench) -> None:
    """Two sticks, one with a volatile cache, are pulled out at five points of a write each: `--resume` ends verified each time."""
    result = bench.play(
        """
        cp $DESKTOP /tmp/image.iso
        enough() { # FROM POINT TAG: so many tenths of the image were taken, and from the fifth point on two blocks are noted as kept
            [ $w -ge $(($1 + 4200 + $2 * 3800)) ] && { [ $2 -lt 4 ] || [ $(noted $3) = 1 ]; }
        }
        round() { # NAME POINT TAG: pulled out at that point
            local dev w before
            dev=$(lab_dev $1 30)
            read -r _ _ _ _ _ _ before _ < /sys/block/${dev##*/}/stat
            (until read -r _ _ _ _ _ _ w _ 2>/dev/null < /sys/block/${dev##*/}/stat && enough $before $2 $3; do
                sleep 0.05
            done; echo "pull $1-$2") &
            pyrotyp write /tmp/image.iso --to $3 --unattended --accept just-verified --quiet; echo "$1-$2 first: $?"
            wait $!
            echo "gone $1-$2"
            lab_dev $1 30 > /dev/null
            resumed pyrotyp write /tmp/image.iso --to $3 --unattended --accept just-verified; echo "$1-$2 then: $?"
        }
        plain=$(tag Plain) cached=$(tag Cached)
        (for n in 0 2 4 6 8; do round plain $n $plain; done) &
        (for n in 1 3 5 7 9; do round cached $n $cached; done) &
        wait
        """,
        drives=[Drive("plain", vendor="Kestrin", product="Plain", serial="KP-P", write_bps="3M"),
                Drive("cached", vendor="Kestrin", product="Cached", serial="KP-C", write_bps="3M", volatile_cache=True)],
        events=[event for n in range(10) for name in [("plain", "cached")[n % 2]] for event in (
            Event("unplug", drive=name, on=f"pull {name}-{n}"),
            Event("plug", drive=name, on=f"gone {name}-{n}", delay=0.3))],
        limit=400)
    said = result["said"]
    for n in range(10):
        name = ("plain", "cached")[n % 2]
        expect(f"{name}-{n} first: 6" in said, f"{name} was pulled out in mid-write at point {n}", said)
        expect(f"{name}-{n} then: 0" in said, f"{name} pulled out at point {n} ends verified", said)
    expect(said.count("going on: ") >= 6, "jobs were gone on with", said)


def cut_off_at_ten_points_a_job_goes_on(bench: Bench) -> None:
    """The power goes while five sticks, some with volatile caches, are at five points of a write: five jobs, then one of all five."""
    five_jobs = 'for t in $tags; do ("$@" --to $t; echo "then: $?") & done'
    one_job = '("$@" $(printf -- "--to %s " $tags); echo "then: $?") &'
    # The first cut comes before any stick can be done, the second once four have confirmed two blocks.
    turns = ((five_jobs, 5, [Event("power-cut", written=f"s{n}:10M") for n in range(5)]),
             (one_job, 1, [Event("power-cut", on="cut now")]))
    for turn, (manner, ends, cut) in enumerate(turns):
        drives = [Drive(f"s{n}", file=str(bench.folder / f"cut-{turn}-{n}.img"), vendor="Kestrin", product=f"Cut{n}",
                        serial=f"KP-{turn}{n}", write_bps=f"{2000 + 100 * n}K", volatile_cache=(n + turn) % 2 == 0)
                  for n in range(5)]
        tags = " ".join(f"$(tag Cut{n})" for n in range(5))
        jobs = f'tags="{tags}"\nstart() {{\n{manner}\n}}\n'
        first = bench.play(
            jobs + "start pyrotyp write $DESKTOP --unattended --quiet\n"
            "until [ $(noted $tags) -ge 4 ]; do sleep 0.1; done; echo cut now; wait\n",
            drives=drives, events=cut, limit=240)
        expect(first["ended"] == "power-cut", "the power was cut", first)
        for drive in drives:
            expect(not any(Path(drive.file or "").read_bytes()[:4096]), f"{drive.name}: the first sectors are blank", first)
        # What the bench had noted by then is all that is left of the job, which takes as long as its slowest drive.
        state = Path(first["work"]) / "job/out/state"
        second = bench.play(
            jobs + f"cp -r $LAB_HOST{state} $LAB_OUT/\nstart resumed pyrotyp write $DESKTOP --unattended\nwait\n",
            drives=drives, limit=240)
        said = second["said"]
        expect(said.count("then: 0") == ends, "all five end verified", said)
        for drive in drives:
            expect(Path(drive.file or "").read_bytes().startswith(bench.desktop.read_bytes()), f"{drive.name} holds the image")
    expect(said.count("going on: ") >= 4, "the job was gone on with", said)


def odd_drives_are_told_and_proven(bench: Bench) -> None:
    """A drive with 4096-byte sectors, a write-protected one, one with a bad sector, and one of false capacity."""
    result = bench.play(
        """
        for name in Large Locked Worn Fake Drop; do
            pyrotyp write $DESKTOP --to $(tag $name) --unattended --accept sector-size; echo "$name: $?"
        done
        pyrotyp write $DESKTOP --to $(tag Large) --unattended; echo "as it is: $?"
        pyrotyp drives --all
        """,
        drives=[Drive("large", vendor="Kestrin", product="Large", serial="KP-1", sector_size=4096),
                Drive("locked", vendor="Kestrin", product="Locked", serial="KP-2", read_only=True),
                Drive("worn", vendor="Kestrin", product="Worn", serial="KP-3",
                      faults=[Fault("write", sector=20480)]),
                Drive("fake", vendor="Kestrin", product="Fake", serial="KP-4", real_size="8M"),
                Drive("drop", vendor="Kestrin", product="Drop", serial="KP-5", real_size="12M", beyond="drop")])
    said = result["said"]
    for drive, status in (("Large", 0), ("Locked", 5), ("Worn", 6), ("Fake", 7), ("Drop", 7), ("as it is", 5)):
        expect(f"{drive}: {status}" in said, f"{drive} ends with {status}", said)
    expect("sector-size: its sectors have 4096 bytes" in said, "sectors of another size are told", said)
    expect("write-protected: the drive is write-protected" in said, "write protection is told", said)
    expect("room for 8.4 MB (8388608 bytes)" in said, "the true size of the drive that wraps round is told", said)
    expect("room for 12.6 MB (12582912 bytes)" in said, "the true size of the drive that drops is told", said)
    expect(said.count("its head is blank: no PC starts from it") >= 2, "blank heads", said)
    expect(result["drives"]["locked"]["written_bytes"] == 0, "the locked drive got nothing", result["drives"])


def the_systems_own_drive_is_refused(bench: Bench) -> None:
    """The drive that the guest's root lies on, under every name that it has."""
    root = bench.folder / "root.img"
    with root.open("wb") as f:
        f.truncate(96 * MIB)
    sh("sfdisk", "-q", root, input="2048,,83\n")
    sh("mkfs.ext4", "-q", "-F", "-E", "offset=1048576", root, "90M")
    result = bench.play(
        """
        for name in $(tag Pocket) $LAB_DEV_root ${LAB_DEV_root}1 ${LAB_DEV_root#/dev/}; do
            pyrotyp write $DESKTOP --to $name --unattended --accept system-disk --accept external-disk
            echo "$name: $?"
        done
        """,
        drives=[Drive("root", file=str(root), vendor="Kestrin", product="Pocket", serial="KP16-000001")],
        mounts=[Mount("root", "/")])
    said = result["said"]
    expect(len(re.findall(r": 5$", said, re.M)) == 4, "four names, four refusals", said)
    expect(said.count("system-disk: this system runs from it (/)") == 4, "the reason is told", said)


def a_station_makes_four_at_once(bench: Bench) -> None:
    """Six sticks by a plan, four at once; another was there before, and a disk comes too."""
    made = [f"m{number}" for number in range(1, 7)]
    plan = "image = '$DESKTOP'\nsticks = 6\nat-once = 4\neject = false\n[files]\nrule = 'refuse'\n"
    result = bench.play(
        f"""
        printf "{plan}" > $LAB_OUT/plan.toml
        pyrotyp station $LAB_OUT/plan.toml --sticks 6 --json; echo "exit $?"
        pyrotyp ledger --json > $LAB_OUT/ledger.json
        for name in {" ".join(made)}; do cmp -n $(stat -c %s $DESKTOP) $DESKTOP $(lab_dev $name) && echo "$name equal"; done
        """,
        drives=[Drive("there", vendor="Kestrin", product="Pocket", serial="KP16-000100"),
                Drive("disk", vendor="Odalen", product="Vault", serial="OV2T", removable=False, present=False),
                *(Drive(name, vendor="Kestrin", product="Pocket", serial=f"KP16-00020{name[1]}", present=False, write_bps="6M")
                  for name in made)],
        events=[*(Event("plug", drive=name, on="plug the first one in", delay=1.0 + number * 0.7) for number, name in enumerate(["disk", *made]))],
        limit=240)
    said = result["said"]
    expect("exit 0" in said and said.count('"verified"') == 6 and len(re.findall(r"m\d equal", said)) == 6, "six are made", said)
    expect(all(result["drives"][name]["written_bytes"] == 0 for name in ("there", "disk")), "nothing else was written", result["drives"])


def a_hub_comes_and_goes_at_a_station(bench: Bench) -> None:
    """Two sticks vanish in mid-write with one that was there before, and all come again: that one is no arrival."""
    made = ["m1", "m2"]
    plan = "image = '$DESKTOP'\nsticks = 2\nat-once = 2\neject = false\n[files]\nrule = 'take'\n"
    result = bench.play(
        f"""
        printf "{plan}" > $LAB_OUT/plan.toml
        pyrotyp station $LAB_OUT/plan.toml --sticks 2 --json < /dev/null; echo "exit $?"
        for name in {" ".join(made)}; do cmp -n $(stat -c %s $DESKTOP) $DESKTOP $(lab_dev $name) && echo "$name equal"; done
        """,
        drives=[Drive("there", vendor="Kestrin", product="Pocket", serial="KP16-000100"),
                *(Drive(name, vendor="Kestrin", product="Pocket", serial=f"KP16-00030{name[1]}", present=False, write_bps="3M")
                  for name in made)],
        events=[*(Event("plug", drive=name, on="plug the first one in") for name in made),
                *(Event("unplug", drive=name, written="m1:2M m2:2M") for name in ["there", *made]),
                *(Event("plug", drive=name, written="m1:2M m2:2M", delay=3.0) for name in ["there", *made])],
        limit=240)
    said = result["said"]
    expect("exit 0" in said and said.count('"verified"') == 2 and len(re.findall(r"m\d equal", said)) == 2, "two are made", said)
    expect(said.count("cut off") == 2 and "was attached before, and has come again" in said, "what happened is told", said)
    expect(result["drives"]["there"]["written_bytes"] == 0, "what was there before is not written", result["drives"])


def holiday_stick_and_disk(bench: Bench, name: str, label: str) -> tuple[Path, Path]:
    """A stick with a FAT volume HOLIDAY in a partition, and a disk that is one with that label."""
    stick, disk = bench.folder / f"{name}.img", bench.folder / f"{name}-{label.lower()}.img"
    for image, words in ((stick, ("-n", "HOLIDAY", "--offset", "2048")), (disk, ("-n", label))):
        with image.open("wb") as f:
            f.truncate(64 * MIB)
        if image == stick:
            sh("sfdisk", "-q", image, input="2048,,c\n")
        sh("mkfs.vfat", *words, image, str(63 * 1024))
    return stick, disk


def by_sudo_the_rights_are_kept_apart(bench: Bench) -> None:
    """Run as root for a person, a stick that the desktop mounted is written, ejected and proven by a process without rights."""
    stick, disk = holiday_stick_and_disk(bench, "mounted", "WORK")
    bench.folder.chmod(0o755)  # the person reads the image
    result = bench.play(
        """
        mkdir $LAB_OUT/state; chown 65534:65534 $LAB_OUT/state
        export SUDO_UID=65534 SUDO_GID=65534
        pyrotyp write $DESKTOP --to $(tag Pocket) --unattended & job=$!
        until ls $LAB_OUT/state/under-way/*.jsonl > /dev/null 2>&1 || ! kill -0 $job; do sleep 0.05; done
        for process in $(pgrep -f -- --unattended); do echo "$(grep -E '^(Uid|CapEff|NoNewPrivs)' /proc/$process/status | tr -s '\t\n' ' ')"; done
        wait $job; echo "write: $?"
        pyrotyp compare $(tag Pocket); echo "compare: $?"
        pyrotyp write $DESKTOP --to $(tag Pocket) --unattended --accept just-verified --eject; echo "again: $?"
        pyrotyp write $DESKTOP --to $(tag Vault) --unattended --accept external-disk; echo "in use: $?"
        find $LAB_OUT/state -user 0 | sed 's/^/of root: /'
        """,
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417", write_bps="3M"),
                Drive("disk", file=str(disk), vendor="Odalen", product="Vault", serial="OV2T", removable=False)],
        mounts=[Mount("stick", "/media/person/HOLIDAY", type="vfat"), Mount("disk", "/mnt/work", partition=0, type="vfat")],
        modules=VFAT)
    said = result["said"]
    expect("write: 0" in said and "compare: 0" in said and "again: 0" in said, "the stick is made, proven and ejected", said)
    expect("Uid: 0 0 0 0 CapEff: 000001ffffffffff" in said, "one keeps the rights", said)
    expect("Uid: 65534 65534 65534 65534 CapEff: 0000000000000000 NoNewPrivs: 1" in said, "the other has none", said)
    expect("of root" not in said, "nothing is root's", said)
    expect("in use: 5" in said, "what is in use stays as it is", said)


# A person's account, and one that may open drives; what the rules of the guest allow it.
ACCOUNTS = """
    mkdir $LAB_OUT/state; chown 65534:65534 $LAB_OUT/state
    as_person() { setpriv --reuid 65534 --regid 65534 --clear-groups $LAB_HOST$PROGRAM "$@" --state $LAB_OUT/state; }
    as_member() { setpriv --reuid 65534 --regid 65534 --groups 6 $LAB_HOST$PROGRAM "$@" --state $LAB_OUT/state; }
    allow() {
        echo "polkit.addRule(function(action, subject) { if (subject.user == 'nobody') return polkit.Result.$1; });" > /etc/polkit-1/rules.d/10-lab.rules
        sleep 3
    }
    again="--unattended --accept just-verified"
"""


def a_person_without_rights_asks_the_disk_service(bench: Bench) -> None:
    """Without `sudo`, a stick is unmounted, written, compared, gauged, reclaimed and ejected by way of the system's disk service."""
    stick, disk = holiday_stick_and_disk(bench, "lent", "HOME")
    bench.folder.chmod(0o755)  # the person reads the image
    result = bench.play(
        f"PROGRAM={bench.program}\n" + ACCOUNTS + """
        stick=$(tag Pocket)
        as_person write $DESKTOP --to $stick --unattended; echo "nobody to ask: $?"
        allow NO
        as_person write $DESKTOP --to $stick --unattended; echo "not allowed: $?"
        allow YES
        as_person write $DESKTOP --to $stick --unattended; echo "write: $?"
        as_person ledger show last | grep -o use-unknown
        grep -c " /media/person/HOLIDAY " /proc/mounts | sed "s/^/mounted: /"
        as_person compare $stick; echo "compare: $?"
        as_person gauge $stick $again; echo "gauge: $?"
        as_person reclaim $stick $again; echo "reclaim: $?"
        # The table of what was made has one partition, as the kernel has it by now.
        udevadm settle; ls -d /sys/block/${LAB_DEV_stick##*/}/sd* | wc -l | sed "s/^/partitions: /"
        as_person write $DESKTOP --to $(tag Vault) --unattended --accept internal-disk --accept external-disk; echo "system: $?"
        as_person write $DESKTOP --to $stick $again --eject & job=$!
        until ls $LAB_OUT/state/under-way/*.jsonl > /dev/null 2>&1 || ! kill -0 $job; do sleep 0.05; done
        pkill udisksd; pkill polkitd; pkill dbus-daemon; kill -0 $job && echo "the service is gone"
        wait $job; echo "without a service: $?"
        echo "left: $(cat /sys/block/${LAB_DEV_stick##*/}/size)"
        eject -t $LAB_DEV_stick; udevadm settle
        as_person write $DESKTOP --to $stick $again; echo "no service: $?"
        chgrp 6 $LAB_DEV_stick; chmod 660 $LAB_DEV_stick
        as_member write $DESKTOP --to $stick $again --eject; echo "member: $?"
        find $LAB_OUT/state -user 0 | sed 's/^/of root: /'
        """,
        drives=[Drive("stick", file=str(stick), vendor="Kestrin", product="Pocket", serial="KP16-004417", write_bps="4M"),
                Drive("disk", file=str(disk), vendor="Odalen", product="Vault", serial="OV2T", removable=False)],
        mounts=[Mount("stick", "/media/person/HOLIDAY", type="vfat"), Mount("disk", "/home", partition=0, type="vfat", options="ro")],
        services=True, modules=VFAT, limit=240)
    said = result["said"]
    for shown in ("nobody to ask: 5", "has nobody here whom it could ask", "not allowed: 5", "the rules of this system do not allow it",
                  "write: 0", "use-unknown", "mounted: 0", "compare: 0", "gauge: 0", "reclaim: 0", "partitions: 1", "system: 5",
                  "the service is gone", "without a service: 0", "left: 0", "no service: 5", "no disk service", "member: 0"):
        expect(shown in said, shown, said)
    expect("of root" not in said, "nothing is root's", said)
    expect(result["drives"]["disk"]["written_bytes"] == 0, "the system's disk stays as it is", result["drives"])


def a_swap_while_the_system_asks_is_caught(bench: Bench) -> None:
    """A stick is exchanged while polkit waits for a password at the terminal: nothing is written to the other one."""
    bench.folder.chmod(0o755)
    tag = bench.tag_of("KP16-004417")
    result = bench.play(
        f"PROGRAM={bench.program}\n" + ACCOUNTS + """
        chown 65534 $(tty)
        as_person write $DESKTOP --to $(tag Pocket); echo "swapped: $?"
        """,
        drives=[Drive("stick", size="64M", vendor="Kestrin", product="Pocket", serial="KP16-004417"),
                Drive("other", size="64M", vendor="Kestrin", product="Pocket", serial="KP16-004418", present=False)],
        events=[Event("type", on="type its tag", text=f"{tag}\n", delay=0.5),
                Event("unplug", drive="stick", on="Password:"),
                Event("plug", drive="other", on="Password:", delay=1),
                Event("type", on="Password:", text="bench\n", delay=4)],
        services=True, tty=True)
    said = result["terminal"]
    expect("asks for an" in said, "the card says whom the system asks", said)
    expect("any more: now" in said and "swapped: 5" in said, "the swap is seen", said)
    expect(result["drives"]["other"]["written_bytes"] == 0, "nothing is written to the other", result["drives"])


# Those that take longest begin first.
PLAYS: list[Callable[[Bench], None]] = [
    cut_off_at_ten_points_a_job_goes_on, unplugged_at_ten_points_a_job_goes_on, drives_are_known_again,
    odd_drives_are_told_and_proven, real_image_starts_pcs, a_power_cut_leaves_a_stick_that_starts_no_pc,
    a_power_cut_leaves_every_record_whole, files_of_composed_volumes_are_read_by_the_kernel,
    a_station_makes_four_at_once, a_hub_comes_and_goes_at_a_station, by_sudo_the_rights_are_kept_apart,
    a_person_without_rights_asks_the_disk_service, a_swap_while_the_system_asks_is_caught, files_behind_an_image_stay_there, unpacked_images_start_pcs, reclaimed_drives_mount_at_once, doubted_sticks_are_gauged, drives_are_saved_and_copied,
    a_power_cut_while_a_stick_is_gauged_costs_nothing,
    a_swap_before_the_answer_is_caught, a_card_exchanged_while_the_image_waits_is_not_written, a_stick_pulled_out_starts_no_pc, the_drive_that_arrives_is_the_one,
    drives_have_roles, the_systems_own_drive_is_refused, a_busy_volume_is_refused_with_who_uses_it,
    the_bench_lies_on_any_file_system, own_images_start_pcs, a_stick_pulled_out_while_it_is_compared_is_no_difference]
# Those of volumes that are composed, of drives that are measured, and of ten points of a job: they take long, and tests of the library
# hold most of it.
NOT_DAILY = [unplugged_at_ten_points_a_job_goes_on, cut_off_at_ten_points_a_job_goes_on,
             files_of_composed_volumes_are_read_by_the_kernel, files_behind_an_image_stay_there, unpacked_images_start_pcs,
             reclaimed_drives_mount_at_once, doubted_sticks_are_gauged, drives_are_saved_and_copied,
             the_bench_lies_on_any_file_system]
# A guest waits for its slow drives most of the time.
AT_ONCE = 2


def played(play: Callable[[Bench], None], bench: Bench) -> bool:
    """Plays one, and tells how it ended."""
    begun = time.monotonic()
    try:
        play(bench)
        word = "ok"
    except Failed as failure:
        word = f"FAILED: {failure}"
    print(f"{play.__name__}: {word} ({time.monotonic() - begun:.0f} s)\n", end="", flush=True)
    return word == "ok"


def main() -> int:
    if len(sys.argv) < 2:
        print(__doc__)
        return 2
    program, wanted = Path(sys.argv[1]).resolve(), sys.argv[2:]
    daily = [play.__name__ for play in PLAYS if play not in NOT_DAILY]
    wanted = [name for word in wanted for name in (daily if word == "--daily" else [word])]
    plays = [play for play in PLAYS if not wanted or play.__name__ in wanted]
    with tempfile.TemporaryDirectory(prefix="pyrotyp-lab-") as folder:
        bench = Bench(program, Path(folder))
        with ThreadPoolExecutor(AT_ONCE) as at_once:
            passed = sum(at_once.map(lambda play: played(play, bench), plays))
    print(f"{passed} passed, {len(plays) - passed} failed")
    return 0 if plays and passed == len(plays) else 1


if __name__ == "__main__":
    sys.exit(main())
