#!/usr/bin/env python3
"""Kills jobs at random points and looks what is left of the ledger: nothing may be lost, torn or half there.

  fuzz/kills.py PROGRAM [RUNS] [SEED]      200 runs by default, about three minutes; drives are simulated

Two jobs run at a time, each on a drive of its own; both are killed. After each run every record that was there before must be there as it
was, what is new must be a whole document, and the program must list all of them. Every tenth run, the index is damaged, removed, or is of
another version.
"""
import hashlib
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

DRIVE = """[[drive]]
name = "{name}"
model = "Pocket"
serial = "KP-{name}"
bytes = 64000000
bus = "usb"
removable = true
[[drive.fault]]
kind = "slow"
bytes_per_second = 60000000
"""


def records(state: Path) -> dict[str, tuple[str, bool]]:
    """Digest of each record, and whether its job has ended. A document that can't be read ends everything."""
    found = {}
    for file in sorted((state / "jobs").glob("*.json")):
        data = file.read_bytes()
        document = json.loads(data)
        found[file.stem] = (hashlib.sha256(data).hexdigest(), document["ended"] is not None)
    return found


def main() -> int:
    program = Path(sys.argv[1]).resolve()
    runs = int(sys.argv[2]) if len(sys.argv) > 2 else 200
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else random.randrange(1 << 32)
    chance = random.Random(seed)
    folder = Path(tempfile.mkdtemp(prefix="pyrotyp-kills."))
    print(f"{runs} runs, seed {seed}", flush=True)
    state, tray = folder / "state", folder / "tray"
    tray.mkdir()
    (tray / "tray.toml").write_text("".join(DRIVE.format(name=name) for name in "ab"))
    subprocess.run([program, "demo", "--keep", folder / "cafe"], capture_output=True, check=True)
    image = folder / "cafe/images/larkspur-9.2-compact-i686.iso"
    common = ["--tray", tray, "--state", state]
    listed = subprocess.run([program, "drives", "--json", *common], capture_output=True, check=True).stdout
    tags = [drive["tag"] for drive in json.loads(listed)]

    def write(tag: str) -> subprocess.Popen[bytes]:
        words = ["write", image, "--to", tag, "--unattended", "--quiet", "--accept", "just-verified"]
        return subprocess.Popen([program, *words, *common], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)

    begin = time.monotonic()
    write(tags[0]).wait()
    whole = time.monotonic() - begin
    before = records(state)
    assert len(before) == 1 and all(ended for _, ended in before.values()), before
    counts = {"no record yet": 0, "begun": 0, "ended": 0}
    for run in range(runs):
        if run % 10 == 9:
            index = state / "ledger.sqlite"
            what = chance.randrange(3)
            if what == 0:
                index.unlink(missing_ok=True)
            elif what == 1 and index.exists():
                data = bytearray(index.read_bytes())
                for _ in range(200):
                    data[chance.randrange(len(data))] ^= 0xFF
                index.write_bytes(data)
            else:
                index.write_bytes(b"SQLite format 3\0of another version")
        jobs = [write(tag) for tag in tags]
        time.sleep(chance.uniform(0, whole * 1.3))
        for job in jobs:
            job.kill()
        said = b"".join(job.communicate()[1] for job in jobs)
        assert b"panicked" not in said, said
        after = records(state)
        for name, (digest, ended) in before.items():
            assert name in after, f"run {run}: {name} is lost"
            # A record that had not ended may be told to have been cut off; one that had is as it was.
            assert not ended or after[name][0] == digest, f"run {run}: {name} was changed"
        new = [ended for name, (_, ended) in after.items() if name not in before]
        counts["no record yet"] += len(tags) - len(new)
        counts["begun"] += new.count(False)
        counts["ended"] += new.count(True)
        told = subprocess.run([program, "ledger", "--json", "--most", "100000", *common], capture_output=True)
        assert told.returncode == 0 and not told.stderr, told
        assert {record["job"] for record in json.loads(told.stdout)} == set(after), f"run {run}: not all are listed"
        before = after
    left = [file.name for file in (state / "jobs").iterdir() if not file.name.endswith((".json", ".blocks"))]
    print(f"{len(before)} records, none lost, none torn: {counts}; left beside them: {len(left)}")
    shutil.rmtree(folder)
    return 0


if __name__ == "__main__":
    sys.exit(main())
