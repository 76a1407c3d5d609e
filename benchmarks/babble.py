"""A port that never stops talking: memory, disk, and how soon Ctrl-C is heeded.

    python -m benchmarks.babble [SECONDS]

The rule: the built program reads from a pseudo-terminal into which another process writes as fast as it goes.
"""

from __future__ import annotations

import os
import pty
import signal
import subprocess
import sys
import tempfile
import time
import tty
from pathlib import Path

LINE = b"+BABBLE and no end to it, at a rate that no UART has\r\n"
CASES = (
    ("lines, 1 MB a second", LINE * 19, 0.001, "pause 1h"),
    ("lines, without a pause", LINE * 60, 0.0, "pause 1h"),
    ("one line without end", b"x" * 4096, 0.0, "pause 1h"),
    ("lines, while something is asked", LINE * 60, 0.0, "repeat for 1h\n    > @who?\n    | ...\n        pause 1s"),
)


def main(wanted: float = 60.0) -> None:
    """Prints what came of it."""
    for what, piece, pause, dialogue in CASES:
        master, slave = pty.openpty()
        tty.setraw(slave)
        writer = os.fork()
        if not writer:
            while True:
                os.write(master, piece)
                time.sleep(pause) if pause else None
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "d.wex").write_text(f"{dialogue}\n")
            words = ("run", f"{folder}/d.wex", os.ttyname(slave), "--trace", f"{folder}/t.jsonl")
            program = subprocess.Popen(
                [sys.executable, "-m", "wexicon", *words], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
            )
            most, began = 0, time.monotonic()
            while time.monotonic() < began + wanted and program.poll() is None:
                time.sleep(0.2)
                memory = Path(f"/proc/{program.pid}/status").read_text().partition("VmRSS:")[2].split()
                most = max(most, int(memory[0]) if memory else 0)
            lasted, ended = time.monotonic() - began, time.monotonic()
            program.send_signal(signal.SIGINT)
            told = (program.communicate(timeout=30)[1] or "").strip().splitlines()
            took = time.monotonic() - ended
            disk = sum(path.stat().st_size for path in Path(folder).iterdir())
        os.kill(writer, signal.SIGKILL)
        os.waitpid(writer, 0)
        os.close(slave)
        print(f"{what}: {lasted:.0f} s, {most / 1024:.0f} MB of memory, {disk / 1e6:.0f} MB of trace, ", end="")
        print(f"gone {took:.2f} s after Ctrl-C\n    {told[0] if told else ''}")


if __name__ == "__main__":
    main(*map(float, sys.argv[1:2]))
