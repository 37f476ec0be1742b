#!/usr/bin/env python3
"""Boots a raw stick image as a USB drive and shows what comes up.

The image itself is never written. Ends after --seconds, once --until appears
on the serial console or the text screen, or once the screen has stood still.
Prints the text of the serial console, and of the screen if it is in text mode.
"""

from __future__ import annotations

import argparse
import json
import re
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import time
import zlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from qemu import Monitor, end_with_parent
from scenario import LabError

FIRMWARE = {"uefi": ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd"),
            "uefi-secure": ("OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd")}
OVMF = Path("/usr/share/OVMF")
TEXT_MODE = (720, 400)  # pixels of the 80 by 25 text screen
TEXT_MEMORY, TEXT_ROWS, TEXT_COLUMNS = 0xB8000, 25, 80
CURSOR_BYTES = 9 * 16 * 3  # a blinking cursor is no change
STILL = 8.0  # seconds


@dataclass
class Picture:
    width: int
    height: int
    pixels: bytes  # RGB

    @classmethod
    def read(cls, ppm: Path) -> Picture:
        match = re.match(rb"P6\s+(\d+)\s+(\d+)\s+255\s", data := ppm.read_bytes())
        if not match:
            raise LabError("the screen dump is not a picture")
        return cls(int(match[1]), int(match[2]), data[match.end():])

    def png(self) -> bytes:
        def chunk(kind: bytes, data: bytes) -> bytes:
            return (struct.pack(">I", len(data)) + kind + data
                    + struct.pack(">I", zlib.crc32(kind + data)))

        row = self.width * 3
        rows = b"".join(b"\0" + self.pixels[i : i + row] for i in range(0, len(self.pixels), row))
        header = struct.pack(">IIBBBBB", self.width, self.height, 8, 2, 0, 0, 0)
        return (b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header)
                + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b""))

    def commonest(self) -> tuple[str, float]:
        """The commonest colour as six hexadecimal digits, and its share of the screen."""
        colours = Counter(zip(self.pixels[::3], self.pixels[1::3], self.pixels[2::3], strict=True))
        [(colour, count)] = colours.most_common(1)
        return bytes(colour).hex(), round(count / (self.width * self.height), 2)

    def blank(self) -> bool:
        return self.pixels == self.pixels[:3] * (len(self.pixels) // 3)

    def like(self, other: Picture | None) -> bool:
        if other is None or (self.width, self.height) != (other.width, other.height):
            return False
        if self.pixels == other.pixels:
            return True
        return sum(a != b for a, b in zip(self.pixels, other.pixels, strict=True)) <= CURSOR_BYTES


@dataclass
class Trial:
    firmware: str
    ended: str  # "until", "colour", "still", "time"
    seconds: float
    width: int
    height: int
    serial: str
    screen: str  # empty in a graphics mode
    colour: str  # the screen's commonest colour
    colour_share: float


def command(stick: Path, firmware: str, memory: int, monitor_fd: int, scratch: Path) -> list[str]:
    machine = "pc,usb=off" if firmware == "bios" else "q35,usb=off,smm=on"
    line = ["qemu-system-x86_64", "-nodefaults", "-no-user-config", "-display", "none", "-machine",
            machine, "-accel", "tcg,thread=multi", "-cpu", "max", "-m", str(memory), "-device", "VGA",
            "-chardev", f"socket,id=monitor,fd={monitor_fd}", "-mon", "chardev=monitor,mode=control",
            "-serial", f"file:{str(scratch / 'serial').replace(',', ',,')}", "-device", "qemu-xhci",
            "-drive", f"if=none,id=stick,format=raw,snapshot=on,file={str(stick).replace(',', ',,')}",
            "-device", "usb-storage,drive=stick,removable=on,bootindex=0"]
    if firmware in FIRMWARE:
        code, variables = FIRMWARE[firmware]
        shutil.copy(OVMF / variables, scratch / "variables")
        path = str(scratch / "variables").replace(",", ",,")
        line += ["-global", "driver=cfi.pflash01,property=secure,value=on",
                 "-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={OVMF / code}",
                 "-drive", f"if=pflash,format=raw,unit=1,file={path}"]
        if firmware == "uefi":
            line.remove("-global")
            line.remove("driver=cfi.pflash01,property=secure,value=on")
    return line


def plain(data: bytes) -> str:
    """Text without the escape sequences and the frames of a terminal."""
    try:
        text = data.decode()
    except UnicodeDecodeError:
        text = data.decode("cp437")
    text = re.sub(r"\x1b(\[[0-9;?=]*[A-Za-z]|[()][A-Z0-9]|[=>78c])", "\n", text)
    lines = (line.strip(" \t\x00\u2500\u2502\u2550\u2551") for line in re.split(r"[\r\n]+", text))
    return "\n".join(line for line in lines if re.search(r"\w", line))


class Machine:
    def __init__(self, stick: Path, firmware: str, memory: int, scratch: Path) -> None:
        ours, theirs = socket.socketpair()
        self.scratch = scratch
        with (scratch / "log").open("wb") as log:
            self.process = subprocess.Popen(
                command(stick, firmware, memory, theirs.fileno(), scratch), stdin=subprocess.DEVNULL,
                stdout=log, stderr=log, pass_fds=[theirs.fileno()], preexec_fn=end_with_parent)
        theirs.close()
        self.monitor = Monitor(ours)
        try:
            self.monitor.call("qmp_capabilities")
        except (LabError, OSError) as e:
            self.end()
            raise LabError(f"{e}\n{(scratch / 'log').read_text(errors='replace')}") from None

    def picture(self) -> Picture:
        self.monitor.call("screendump", filename=str(self.scratch / "screen"))
        return Picture.read(self.scratch / "screen")

    def screen_text(self, picture: Picture) -> str:
        if (picture.width, picture.height) != TEXT_MODE:
            return ""
        size = TEXT_ROWS * TEXT_COLUMNS * 2
        self.monitor.call("pmemsave", val=TEXT_MEMORY, size=size, filename=str(self.scratch / "text"))
        cells = (self.scratch / "text").read_bytes()[::2].replace(b"\0", b" ").decode("cp437")
        rows = (cells[i : i + TEXT_COLUMNS].rstrip() for i in range(0, len(cells), TEXT_COLUMNS))
        return "\n".join(row for row in rows if row)

    def serial_text(self) -> str:
        return plain((self.scratch / "serial").read_bytes())

    def end(self) -> None:
        self.process.kill()
        self.process.wait()


def trial_boot(stick: Path, firmware: str = "bios", png: Path | None = None, seconds: float = 60,
               still: float | None = None, until: str | None = None, keys: Sequence[tuple[float, str]] = (),
               memory: int = 1024, colour: str | None = None) -> Trial:
    """Boots the stick; `keys` are (second, key name) pairs such as (9, "ret")."""
    if still is None:  # a screen may well stand still before the awaited text comes
        still = 0 if until or colour else STILL
    with tempfile.TemporaryDirectory(prefix="trial-boot-") as folder:
        machine = Machine(stick, firmware, memory, Path(folder))
        try:
            begin = changed = time.monotonic()
            waiting, before = sorted(keys), None
            while True:
                now = time.monotonic()
                while waiting and waiting[0][0] <= now - begin:
                    key = {"type": "qcode", "data": waiting.pop(0)[1]}
                    machine.monitor.call("send-key", keys=[key])
                    changed = now
                picture = machine.picture()
                serial, screen = machine.serial_text(), machine.screen_text(picture)
                if picture.blank() or not picture.like(before):
                    before, changed = picture, now
                shown, share = picture.commonest()
                ended = ("until" if until and until in serial + "\n" + screen
                         else "colour" if colour == shown and share > 0.5
                         else "still" if still and not waiting and now - changed >= still
                         else "time" if now - begin >= seconds else "")
                if ended:
                    break
                time.sleep(0.5)
        finally:
            machine.end()
        if png:
            png.write_bytes(picture.png())
        return Trial(firmware, ended, round(now - begin, 1), picture.width, picture.height, serial, screen,
                     shown, share)


def key_at(value: str) -> tuple[float, str]:
    key, _, second = value.partition("@")
    return float(second or 0), key


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawTextHelpFormatter)
    parser.add_argument("stick", type=Path, help="raw image of the stick")
    parser.add_argument("--firmware", choices=["bios", *FIRMWARE], default="bios")
    parser.add_argument("--png", type=Path, help="where the last screen goes")
    parser.add_argument("--seconds", type=float, default=60, help="longest time (60)")
    parser.add_argument("--still", type=float,
                        help=f"seconds without change that end it ({STILL:g}, or never with --until)")
    parser.add_argument("--until", help="text that ends it")
    parser.add_argument("--colour", help="six hexadecimal digits: ends when most of the screen has it")
    parser.add_argument("--key", type=key_at, action="append", default=[], metavar="KEY@SECOND",
                        help="press a key then, such as ret@9")
    parser.add_argument("--memory", type=int, default=1024, help="MiB")
    parser.add_argument("--json", action="store_true", help="print all that is known as JSON")
    o = parser.parse_args()
    try:
        trial = trial_boot(o.stick, o.firmware, o.png, o.seconds, o.still, o.until, o.key, o.memory,
                           o.colour)
    except (LabError, OSError) as e:
        print(f"trial_boot.py: {e}", file=sys.stderr)
        return 2
    if o.json:
        print(json.dumps(asdict(trial), indent=2, ensure_ascii=False))
    else:
        for title, text in (("serial console", trial.serial), ("screen", trial.screen)):
            print(f"--- {title}\n{text}" if text else f"--- {title}: no text")
        print(f"--- ended by {trial.ended} after {trial.seconds} s, {trial.width}x{trial.height}")
    return 1 if o.until and trial.ended != "until" else 0


if __name__ == "__main__":
    sys.exit(main())
