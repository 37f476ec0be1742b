#!/usr/bin/env python3
"""Plays random scenes of a station whose rule is `refuse`: no stick that holds files may be written.

    scenes.py PROGRAM [COUNT [SEED]]     200 scenes by default

Sticks of every kind come, go and come again through a hub, two of them with one serial number. Some are mounted, and some are formatted
and get files while they wait. A scene that fails is printed with its number: the same seed makes the same scenes. Needs root and a cache
that setup.sh filled. 200 scenes take an hour and a half.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from play import VFAT, Bench, sh
from scenario import Drive, Event

MIB = 1 << 20
STICK = 32 * MIB
FORMATTED = 16 * MIB
# Scenes of one start of the guest, and guests at once.
OF_ONE_BOOT = 8
AT_ONCE = 2
# The last two can't be told apart by their serial number.
SERIALS = {"a": "KP16-000401", "b": "KP16-000402", "c": "KP16-000403", "d": "KP16-000403"}
# Kinds of sticks that hold somebody's files, and the others.
FILES = ("fat", "partition", "ext4", "lost", "container", "half-and-files")
OTHERS = ("empty", "half", "image")


def made(folder: Path, desktop: Path) -> dict[str, bytes]:
    """What is on a stick of each kind."""
    (folder / "files").mkdir()
    (folder / "files/letter.txt").write_bytes(b"Dear Ann, the photos are on this stick.\n" * 400)

    def fat(size: int) -> bytes:
        file = folder / f"fat-{size}.img"
        file.write_bytes(bytes(size))
        sh("mkfs.vfat", "-n", "HOLIDAY", file)
        sh("mcopy", "-i", file, folder / "files/letter.txt", "::letter.txt")
        return file.read_bytes()

    def placed(*parts: tuple[int, bytes]) -> bytes:
        stick = bytearray(STICK)
        for at, part in parts:
            stick[at:at + len(part)] = part
        return bytes(stick)

    table = folder / "table.img"
    table.write_bytes(bytes(STICK))
    sh("sfdisk", "-q", table, input="2048,,c\n")
    ext4 = folder / "ext4.img"
    ext4.write_bytes(bytes(STICK))
    sh("mkfs.ext4", "-q", "-F", "-d", folder / "files", ext4)
    image = desktop.read_bytes()
    half = (MIB, image[MIB:9 * MIB])
    return {
        "fat": placed((0, fat(FORMATTED))),
        "partition": placed((0, table.read_bytes()[:MIB]), (MIB, fat(24 * MIB))),
        "ext4": ext4.read_bytes(),
        "lost": placed((4 * MIB, fat(24 * MIB))),
        "container": placed((MIB, random.Random(7).randbytes(30 * MIB))),
        "half-and-files": placed(half, (20 * MIB, fat(8 * MIB))),
        "empty": bytes(STICK),
        "half": placed(half),
        "image": placed((0, image)),
    }


@dataclass
class Scene:
    """One scene: what is on the sticks, and what is done with them, in order."""

    number: int
    kinds: dict[str, str]
    acts: list[tuple[float, str, str]]
    wanted: int
    at_once: int
    # Sticks that got files while they waited.
    formatted: set[str] = field(default_factory=set)
    lost: list[str] = field(default_factory=list)

    def words(self) -> str:
        acts = ", ".join(f"{act} {stick}" for _, act, stick in self.acts)
        return f"scene {self.number}: {self.kinds}, {self.wanted} wanted, {self.at_once} at once: {acts}"


def scene(number: int, chance: random.Random) -> Scene:
    sticks = chance.sample(sorted(SERIALS), chance.randint(2, 4))
    kinds = {stick: chance.choice(FILES if chance.random() < 0.5 else OTHERS) for stick in sticks}
    acts = [(chance.uniform(0, 2), "plug", stick) for stick in sticks]
    for _ in range(chance.randint(1, 5)):
        act = chance.choice(("format", "format", "mount", "again", "exchange"))
        stick = chance.choice(sticks)
        if act == "again":
            acts += [(chance.uniform(0, 2), "unplug", stick), (chance.uniform(0, 1), "plug", stick)]
        elif act == "exchange":
            # They come in another order, and so by other names.
            other = chance.choice(sticks)
            acts += [(chance.uniform(0, 2), "unplug", stick), (0.0, "unplug", other), (0.0, "plug", other), (0.0, "plug", stick)]
        else:
            acts.append((chance.uniform(0, 2), act, stick))
    return Scene(number, kinds, acts, wanted=chance.randint(1, len(sticks)), at_once=chance.randint(1, 2))


# Acts in the guest. A stick is formatted only while no job has it: its lock tells.
TOOLS = """
ask() { echo "@$1."; }
there() { lab_dev $1 0 > /dev/null; }
plug() { there $2 || { ask $1; lab_dev $2 15 > /dev/null; }; }
unplug() { there $2 || return; umount /media/$2 2> /dev/null; ask $1; for _ in $(seq 100); do there $2 || break; sleep 0.1; done; }
format() { there $2 && flock -n $(lab_dev $2) dd if=$FORMATTED of=$(lab_dev $2) bs=1M conv=fsync 2> /dev/null && ask $1; }
mount_it() { there $2 && mkdir -p /media/$2 && { mount -o ro -t vfat $(lab_dev $2)1 /media/$2 || mount -o ro $(lab_dev $2) /media/$2; } 2> /dev/null; }
exchange() { :; }
"""


def script(one: Scene, sticks: list[str], events: list[Event], folder: Path, contents: dict[str, bytes], files: dict[str, Path]) -> str:
    """What the guest does for a scene; what it asks for becomes events."""
    n, steps = one.number, 0

    def asked(action: str, stick: str | None = None, call: object = None) -> str:
        nonlocal steps
        steps += 1
        events.append(Event(action, drive=stick, on=f"@{n}-{steps}.", call=call))  # type: ignore[arg-type]
        return f"{n}-{steps}"

    def fill() -> None:
        for stick, kind in one.kinds.items():
            files[stick].write_bytes(contents[kind])

    def look() -> None:
        for stick, kind in one.kinds.items():
            found = files[stick].read_bytes()
            if stick in one.formatted:
                is_kept = found[:FORMATTED] == contents["fat"][:FORMATTED]
            else:
                is_kept = kind not in FILES or found == contents[kind]
            if not is_kept:
                one.lost.append(stick)

    plan = f"image = '$DESKTOP'\nsticks = {one.wanted}\nat-once = {one.at_once}\neject = false\n[files]\nrule = 'refuse'\n"
    lines = [f'ask {asked("call", call=fill)}; sleep 0.5', f'printf "{plan}" > $LAB_OUT/plan-{n}.toml',
             f'$LAB_HOST$PROGRAM station $LAB_OUT/plan-{n}.toml --sticks {one.wanted} --json --state $LAB_OUT/state-{n} < /dev/null > $LAB_OUT/said-{n} 2>&1 & job=$!',
             f'for _ in $(seq 300); do grep -q "plug the first one in" $LAB_OUT/said-{n} && break; kill -0 $job 2> /dev/null || break; sleep 0.1; done']
    for pause, act, stick in one.acts:
        lines.append(f"sleep {pause:.1f}")
        if act == "format":
            lines.append(f'format {asked("call", call=lambda stick=stick: one.formatted.add(stick))} {stick}')
        elif act == "mount":
            lines.append(f"mount_it - {stick}")
        else:
            lines.append(f"{act} {asked(act, stick)} {stick}")
    # Until nothing has been said for a while; then it is told to stop.
    lines.append(f"""
        for _ in $(seq 20); do
            kill -0 $job 2> /dev/null || break
            before=$(stat -c %s $LAB_OUT/said-{n}); sleep 5
            [ $before != $(stat -c %s $LAB_OUT/said-{n}) ] || break
        done
        kill -INT $job 2> /dev/null; wait $job; echo "scene {n} exit $? verified $(grep -c '"result":"verified"' $LAB_OUT/said-{n})"
    """)
    lines += [f'unplug {asked("unplug", stick)} {stick}' for stick in sticks]
    lines.append(f'ask {asked("call", call=look)}; sleep 0.5')
    return "\n".join(lines)


def played(bench: Bench, scenes: list[Scene], contents: dict[str, bytes]) -> tuple[list[Scene], int]:
    """Plays scenes in one guest; returns those that lost files, and how many sticks were made."""
    folder = Path(tempfile.mkdtemp(dir=bench.folder))
    formatted = folder / "formatted.img"
    formatted.write_bytes(contents["fat"][:FORMATTED])
    files = {stick: folder / f"{stick}.img" for stick in SERIALS}
    for file in files.values():
        file.write_bytes(bytes(STICK))
    events: list[Event] = []
    parts = [script(one, sorted(SERIALS), events, folder, contents, files) for one in scenes]
    result = bench.play(
        f"PROGRAM={bench.program}\nFORMATTED=$LAB_HOST{formatted}\n" + TOOLS + "\n".join(parts),
        drives=[Drive(stick, file=str(files[stick]), vendor="Kestrin", product="Pocket", serial=serial, present=False, write_bps="8M")
                for stick, serial in SERIALS.items()],
        events=events, modules=VFAT, limit=150 * len(scenes))
    ended = [line for line in result["said"].splitlines() if line.startswith("scene ")]
    if len(ended) != len(scenes):
        raise RuntimeError(f"only {len(ended)} of {len(scenes)} scenes came to their end: {result}")
    failed = [one for one in scenes if one.lost]
    for one in failed:
        said = Path(result["work"], "job/out", f"said-{one.number}")
        print(f"{one.words()}\n   lost: {one.lost}\n{said.read_text(errors='replace')}", flush=True)
    return failed, sum(int(line.split()[-1]) for line in ended)


def main() -> int:
    if len(sys.argv) < 2:
        print(__doc__)
        return 2
    count, seed = (int(word) for word in (sys.argv[2:] + ["200", "1"][len(sys.argv) - 2:])[:2])
    chance = random.Random(seed)
    scenes = [scene(number, chance) for number in range(1, count + 1)]
    with tempfile.TemporaryDirectory(prefix="pyrotyp-scenes-") as name:
        bench = Bench(Path(sys.argv[1]).resolve(), Path(name))
        contents = made(Path(name), bench.desktop)
        boots = [scenes[at:at + OF_ONE_BOOT] for at in range(0, count, OF_ONE_BOOT)]
        with ThreadPoolExecutor(AT_ONCE) as at_once:
            ended = list(at_once.map(lambda boot: played(bench, boot, contents), boots))
    failed = sum(len(failed) for failed, _ in ended)
    of_files = sum(kind in FILES for one in scenes for kind in one.kinds.values())
    formatted = sum(len(one.formatted) for one in scenes)
    print(f"{count} scenes: {of_files} sticks held files and {formatted} got some while they waited; "
          f"{sum(number for _, number in ended)} were made; {failed} scenes lost files")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
