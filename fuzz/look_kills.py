#!/usr/bin/env python3
"""Kills quick tests at random points: `gauge --restore` restores every byte.

  fuzz/look_kills.py PROGRAM [RUNS] [SEED]      100 runs by default, about four minutes; drives are simulated

Two drives are looked at in turn, a sound one and one that counts round; both are slow and full of random bytes. After each kill, `gauge
--restore` must leave every byte as it was, and a run is counted by whether marks were on the drive when it was killed.
"""
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SIZE = 64_000_000
DRIVE = """[[drive]]
name = "{name}"
model = "Turbo"
serial = "TT-{name}"
bytes = {size}
bus = "usb"
removable = true
[[drive.fault]]
kind = "slow"
bytes_per_second = 20000000
{more}
"""
ROUND = """[[drive.fault]]
kind = "wrap"
true_bytes = 39000064
"""


def main() -> int:
    program = Path(sys.argv[1]).resolve()
    runs = int(sys.argv[2]) if len(sys.argv) > 2 else 100
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else random.randrange(1 << 32)
    chance = random.Random(seed)
    print(f"{runs} runs, seed {seed}", flush=True)
    folder = Path(tempfile.mkdtemp(prefix="pyrotyp-look-kills."))
    state, tray = folder / "state", folder / "tray"
    tray.mkdir()
    (tray / "tray.toml").write_text(DRIVE.format(name="sound", size=SIZE, more="") + DRIVE.format(name="round", size=SIZE, more=ROUND))
    content = {name: random.Random(name).randbytes(SIZE if name == "sound" else 39_000_064) for name in ("sound", "round")}
    for name, held in content.items():
        (tray / f"{name}.img").write_bytes(held)
    common = ["--tray", tray, "--state", state]

    def listed() -> list[dict]:
        return json.loads(subprocess.run([program, "drives", "--json", *common], capture_output=True, check=True).stdout)

    def is_as_it_was(name: str) -> bool:
        held = (tray / f"{name}.img").read_bytes()
        # Behind what was written, a backing file reads as zeros.
        return held.startswith(content[name]) and not any(held[len(content[name]):])

    tags = {drive["serial"].removeprefix("TT-"): drive["tag"] for drive in listed()}

    def look(name: str) -> subprocess.Popen[bytes]:
        words = [program, "gauge", tags[name], "--unattended", "--quiet", *common]
        return subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)

    whole = {}
    for name in content:
        begin = time.monotonic()
        look(name).communicate()
        whole[name] = time.monotonic() - begin
        assert is_as_it_was(name), f"{name} after a whole look"
    marked = 0
    for run in range(runs):
        name = ("sound", "round")[run % 2]
        job = look(name)
        time.sleep(chance.uniform(0, whole[name] * 1.05))
        job.kill()
        said = job.communicate()[1]
        assert b"panicked" not in said, said
        marked += not is_as_it_was(name)
        subprocess.run([program, "gauge", tags[name], "--restore", "--quiet", *common], stdout=subprocess.DEVNULL, check=True)
        assert is_as_it_was(name), f"run {run}: {name} is not as it was"
    kept = [file.name for file in (state / "under-way").glob("*.backup")]
    # A run that was killed before its first mark leaves a backup that restores nothing.
    assert len(kept) <= runs - marked, kept
    print(f"{runs} quick tests killed, {marked} of them with marks on the drive: every byte is restored, {len(kept)} backups of unmarked runs stay")
    shutil.rmtree(folder)
    return 0


if __name__ == "__main__":
    sys.exit(main())
