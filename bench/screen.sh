#!/usr/bin/env bash
# What drawing a job at a terminal costs: the same throttled job drawn and in plain lines, in one run.
#
#   bench/screen.sh [FOLDER]     FOLDER takes 1 GB (default /dev/shm); no root needed
#
# Measured: processor time of the program for each frame and as a part of the time that goes by, and how long the whole job takes.
# Not measured: what the terminal itself does with it.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cargo build --release --quiet
program=$PWD/target/release/pyrotyp
folder=$(mktemp -d "${1:-/dev/shm}/pyrotyp-screen.XXXXXX")
trap 'rm -rf "$folder"' EXIT
"$program" demo --keep "$folder/cafe" >/dev/null 2>&1
cp "$folder/cafe/images/larkspur-9.2-desktop-x86_64.iso" "$folder/image.iso"
truncate -s 400M "$folder/image.iso"
mkdir "$folder/tray"
for drive in a b c d; do
    printf '[[drive]]\nname = "%s"\nmodel = "Pocket"\nserial = "KP-%s"\nbytes = 8000000000\nbus = "usb"\nremovable = true\n' $drive $drive
    printf '[[drive.fault]]\nkind = "slow"\nbytes_per_second = 20000000\n'
done >"$folder/tray/tray.toml"
python3 - "$program" "$folder" <<'PYTHON'
import fcntl, os, pty, re, resource, struct, subprocess, sys, termios, time

program, folder = sys.argv[1:]
base = ["--tray", f"{folder}/tray", "--state", f"{folder}/state"]
drives = subprocess.run([program, "drives", "--quiet", *base], capture_output=True, text=True, check=True).stdout
tags = [line.split()[0] for line in drives.splitlines() if "Pocket" in line]
command = [program, "write", f"{folder}/image.iso", "--unattended", *base]
command += [word for tag in tags for word in ("--to", tag)]
command += ["--accept", "just-verified"]


def run(term):
    """Seconds, processor seconds and frames of the job at a terminal of this kind."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    begin = time.monotonic()
    child, terminal = pty.fork()
    if child == 0:
        os.environ["TERM"] = term
        os.execv(program, command)
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 126, 0, 0))
    frames, answered = 0, 0
    shown = b""
    while True:
        try:
            piece = os.read(terminal, 65536)
        except OSError:
            break
        if not piece:
            break
        shown = shown[-8:] + piece
        if b"\x1b[6n" in shown:
            os.write(terminal, b"\x1b[5;1R")
            shown = b""
        frames += 1
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    assert status == 0, status
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    spent = after.ru_utime + after.ru_stime - used.ru_utime - used.ru_stime
    return time.monotonic() - begin, spent, frames


plain, drawn = run("dumb"), run("xterm")
again = run("dumb"), run("xterm")
plain, drawn = min(plain, again[0]), min(drawn, again[1])
more = max(0.0, drawn[1] - plain[1])
# No more frames than these can have been drawn.
frames = max(1, int(drawn[0] * 7))
print(f"a frame of four drives, processor time       {more / frames * 1e3:8.3f} ms (at most 2), {frames} frames at most")
print(f"drawing, of one processor                    {more / drawn[0] * 70:8.2f} % (at most 1)")
print(f"the job drawn against in plain lines         {drawn[0] / plain[0]:8.3f}   ({drawn[0]:.1f} s against {plain[0]:.1f} s; at most 1.03)")
PYTHON
