#!/usr/bin/env python3
"""Tries `PROGRAM rehearse` on sticks of every kind, most of which start nothing.

Usage: rehearsals.py PROGRAM [WORD ...]: all of them, or those whose names hold a word.

Needs a cache that setup.sh filled, dosfstools and mtools. Prints what was
said of each, and fails if one is said to start that does not, or the other way round.
"""

from __future__ import annotations

import json
import os
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

MIB = 1 << 20
CACHE = Path(os.environ.get("PYROTYP_LAB_CACHE")
             or Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "pyrotyp-usb-lab")
PRINT = bytes.fromhex("be0000ac84c07409b40ebb0700cd10ebf2")  # mov si, text; print until 0
HANG = b"\xf4\xeb\xfd"  # hlt; jmp


@dataclass
class Case:
    name: str
    firmware: str
    expected: set[str]
    make: Callable[[Path], None]
    secure: bool = False
    wait: int = 45


def run(*words: object) -> None:
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)


def sector(code: bytes) -> Callable[[Path], None]:
    """A stick whose first sector is this code, with the signature of boot code."""
    def make(stick: Path) -> None:
        stick.write_bytes(code.ljust(510, b"\0") + b"\x55\xaa")
        os.truncate(stick, 16 * MIB)
    return make


def blank(stick: Path) -> None:
    stick.touch()
    os.truncate(stick, 16 * MIB)


def saying(text: str) -> bytes:
    """Boot code that prints a text and stands still."""
    start = b"\x31\xc0\x8e\xd8\x8e\xd0\xbc\x00\x7c\xfc"  # segments and stack
    code = bytearray(start + PRINT + HANG)
    struct.pack_into("<H", code, len(start) + 1, 0x7C00 + len(code))
    return bytes(code) + text.encode("cp437") + b"\0"


def program(code: bytes, machine: int = 0x8664) -> bytes:
    """A UEFI application: PE/COFF with one section."""
    size = -(-len(code) // 512) * 512
    file = bytearray(512 + size)
    def put(at: int, form: str, *values: int) -> None:
        struct.pack_into("<" + form, file, at, *values)
    file[0:2] = b"MZ"
    put(0x3C, "I", 0x80)
    file[0x80:0x84] = b"PE\0\0"
    put(0x84, "HH", machine, 1)
    put(0x94, "HH", 240, 0x22)
    at = 0x98
    for offset, form, value in [(0, "H", 0x20B), (4, "I", size), (16, "I", 0x1000), (20, "I", 0x1000), (32, "I", 0x1000),
                                (36, "I", 0x200), (56, "I", 0x1000 + 0x1000 * -(-size // 0x1000)), (60, "I", 0x200),
                                (68, "H", 10), (108, "I", 16)]:
        put(at + offset, form, value)
    file[at + 240:at + 248] = b".text\0\0\0"
    for offset, value in [(8, size), (12, 0x1000), (16, size), (20, 0x200), (36, 0xE0000020)]:
        put(at + 240 + offset, "I", value)
    file[512:512 + len(code)] = code
    return bytes(file)


def esp(files: dict[str, bytes | Path]) -> Callable[[Path], None]:
    """A stick with one FAT volume that holds these files."""
    def make(stick: Path) -> None:
        sizes = [len(data) if isinstance(data, bytes) else data.stat().st_size for data in files.values()]
        stick.touch()
        os.truncate(stick, (sum(sizes) // MIB + 40) * MIB)
        run("mkfs.fat", "-F", "32", stick)
        for folder in sorted({"/".join(name.split("/")[:depth]) for name in files for depth in range(1, name.count("/") + 1)}):
            run("mmd", "-i", stick, f"::/{folder}")
        for name, data in files.items():
            source = data if isinstance(data, Path) else stick.with_suffix(".file")
            if isinstance(data, bytes):
                source.write_bytes(data)
            run("mcopy", "-i", stick, source, f"::/{name}")
    return make


def removable(data: bytes | Path, name: str = "BOOTX64.EFI", **more: bytes | Path) -> Callable[[Path], None]:
    return esp({f"EFI/BOOT/{name}": data, **{key.replace("__", "/"): value for key, value in more.items()}})


def made(build: Callable[[Path], Path], **more: bytes | Path) -> Callable[[Path], None]:
    def make(stick: Path) -> None:
        removable(build(stick.with_suffix(".made")), **more)(stick)
    return make


def grub(*words: str) -> Callable[[Path], Path]:
    """GRUB for UEFI with these modules and nothing else on the stick."""
    def build(file: Path) -> Path:
        run("grub-mkimage", "-O", "x86_64-efi", "-o", file, "-p", "/boot/grub", *words)
        return file
    return build


def menu(file: Path) -> Path:
    config = file.with_suffix(".cfg")
    config.write_text('set timeout=-1\nmenuentry "Larkspur Linux 9.2 Desktop" { true }\n')
    run("grub-mkstandalone", "-O", "x86_64-efi", "-o", file, f"boot/grub/grub.cfg={config}")
    return file


def kernel() -> Path:
    return max((CACHE / "kernel").rglob("vmlinuz-*"))


def signed(stick: Path) -> None:
    """The loaders that Debian has had signed, without a menu."""
    shim = next((CACHE / "shim-signed").rglob("shimx64.efi.signed"))
    loader = next((CACHE / "grub-efi-amd64-signed").rglob("grubx64.efi.signed"))
    esp({"EFI/BOOT/BOOTX64.EFI": shim, "EFI/BOOT/grubx64.efi": loader,
         "EFI/debian/grub.cfg": b'set timeout=-1\nmenuentry "Wrenfield Rescue 3" { true }\n'})(stick)


def copied(file: Path) -> Callable[[Path], None]:
    return lambda stick: stick.symlink_to(file)


def memtest(bits: str, folder: Path) -> Callable[[Path], None]:
    def make(stick: Path) -> None:
        if not (folder / "memtest").exists():
            subprocess.run(["apt-get", "-qq", "-o", "APT::Sandbox::User=root", "download", "memtest86+"], cwd=folder, check=True)
            run("dpkg", "-x", next(folder.glob("memtest86+*.deb")), folder / "memtest")
        stick.symlink_to(folder / f"memtest/usr/lib/memtest86+/memtest86+{bits}.iso")
    return make


NO, NOT_YES, YES = {"no"}, {"no", "unknown"}, {"yes"}
FILL = bytes.fromhex("b800b88ec031ffb9d007b82b5ae8000000abfec0fec4e2f9") + HANG  # cells of the text screen, one after the other


def cases(folder: Path, demo: Path) -> list[Case]:
    images = {name: demo / "images" / f"{name}.iso" for name in
              ("larkspur-9.2-desktop-x86_64", "larkspur-9.2-compact-i686", "wrenfield-rescue-3")}
    aarch64 = program(b"\x00\x00\x00\x14", 0xAA64)
    return [
        Case("blank", "bios", NO, blank),
        Case("blank", "uefi", NO, blank),
        Case("signature without code", "bios", NO, sector(b"")),
        Case("code that stands still at once", "bios", NOT_YES, sector(b"\xeb\xfe"), wait=25),
        Case("code that halts", "bios", NOT_YES, sector(b"\xfa\xf4\xeb\xfd"), wait=25),
        Case("code that misses a system", "bios", NO, sector(saying("Missing operating system"))),
        Case("code that says an error", "bios", NOT_YES, sector(saying("Error 17: cannot read the stick")), wait=25),
        Case("code that says to wait", "bios", NOT_YES, sector(saying("Please wait...")), wait=25),
        Case("code that gives up", "bios", NO, sector(b"\xcd\x18" + HANG)),
        Case("code that starts over", "bios", NOT_YES, sector(b"\xcd\x19" + HANG), wait=25),
        Case("code that resets the PC", "bios", NO, sector(b"\xea\xf0\xff\x00\xf0")),
        Case("code that crashes", "bios", NO, sector(bytes.fromhex("fa2e0f011e107ccc").ljust(32, b"\0"))),
        Case("code that fills the screen", "bios", NOT_YES, sector(FILL), wait=25),
        Case("code that shows an empty picture", "bios", NOT_YES, sector(b"\xb8\x13\x00\xcd\x10" + HANG), wait=25),
        Case("FAT volume without a system", "bios", NO, removable(b"no program")),
        Case("no program but a text", "uefi", NO, removable(b"no program")),
        Case("program for ARM under the name for x86-64", "uefi", NO, removable(aarch64)),
        Case("program for ARM alone", "uefi", NO, removable(aarch64, "BOOTAA64.EFI")),
        Case("program for 32 bits alone", "uefi", NO, removable(program(HANG, 0x14C), "BOOTIA32.EFI")),
        Case("program that ends with a fault", "uefi", NO, removable(program(bytes.fromhex("48b80e00000000000080c3")))),
        Case("program that ends well", "uefi", NO, removable(program(b"\x31\xc0\xc3"))),
        Case("program that stands still", "uefi", NOT_YES, removable(program(HANG)), wait=30),
        Case("program that crashes", "uefi", NO, removable(program(b"\x0f\x0b" + HANG))),
        Case("loader without its files", "uefi", NOT_YES, made(grub("fat", "part_msdos"))),
        Case("loader without a menu", "uefi", NO, made(grub("normal", "fat", "part_msdos", "echo", "ls"))),
        Case("kernel without a root", "uefi", NOT_YES, lambda s: removable(kernel())(s), wait=60),
        Case("program that nobody signed", "uefi", NO, removable(program(HANG)), secure=True),
        Case("loader with a menu", "uefi", YES, made(menu)),
        Case("signed loader with a menu", "uefi", YES, signed, secure=True, wait=90),
        *(Case(name, firmware, expected, copied(images[name])) for name, firmware, expected in [
            ("larkspur-9.2-desktop-x86_64", "bios", YES), ("larkspur-9.2-desktop-x86_64", "uefi", YES),
            ("larkspur-9.2-compact-i686", "bios", YES), ("larkspur-9.2-compact-i686", "uefi", NO),
            ("wrenfield-rescue-3", "bios", YES), ("wrenfield-rescue-3", "uefi", YES)]),
        Case("memtest86+", "bios", YES, memtest("x64", folder)),
        Case("memtest86+", "uefi", YES, memtest("x64", folder)),
    ]


def main() -> int:
    if len(sys.argv) < 2:
        print(__doc__)
        return 2
    pyrotyp, words = Path(sys.argv[1]).absolute(), sys.argv[2:]
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="rehearsals-") as scratch:
        folder = Path(scratch)
        run(pyrotyp, "demo", "--quiet", "--keep", folder / "demo")
        chosen = [case for case in cases(folder, folder / "demo") if not words or any(word in case.name for word in words)]
        for number, case in enumerate(chosen):
            stick = folder / f"{number}.img"
            case.make(stick)
            line = [pyrotyp, "rehearse", stick, "--json", "--quiet", "--firmware", case.firmware, "--wait", case.wait,
                    "--state", folder / "state"] + ["--secure-boot"] * case.secure
            began = time.monotonic()
            done = subprocess.run([str(word) for word in line], stdout=subprocess.PIPE, check=False)
            told = json.loads(done.stdout)
            start = told[0] if isinstance(told, list) else {"started": "none", "reason": told}
            is_right = start["started"] in case.expected and Path(start.get("picture") or "/nowhere").exists()
            wrong += not is_right
            print(f"{'ok   ' if is_right else 'WRONG'} {case.name}, {case.firmware}{' secure' * case.secure}: "
                  f"{start['started']}, {start['reason']} ({time.monotonic() - began:.0f} s)", flush=True)
            stick.unlink()
    print(f"{len(chosen)} sticks, {wrong} wrong")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
