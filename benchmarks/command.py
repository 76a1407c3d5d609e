"""The command itself over many units: a sheet provisioned on pseudo-terminals that other processes serve, or rehearsed."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from benchmarks.fleet import FAMILY, serve_in_processes

SHEET = f"""format = 1
title = "benchmark"
units = "units.csv"
[seat.mast]
lexicon = "{FAMILY}"
each = "row"
settings = {{ name = "mast {{row.mast}}", address = "{{row.mast}}", network = 6, frequency = 868.3, spreading = 10 }}
"""


def by_command(count: int) -> tuple[float, int, float]:
    """Provisions `count` units by the command, on as many ports at once, with a register that already exists; gives the
    seconds that the whole command took, how many conform, and the processor's seconds."""
    with _folder(count) as (folder, environment), serve_in_processes(count) as ports:
        words = [sys.executable, "-m", "wexicon"]
        subprocess.run([*words, "units", "list"], env=environment, capture_output=True)
        with (folder / "results.json").open("w") as results:
            began = time.perf_counter()
            running = subprocess.Popen(
                [*words, "provision", "sheet.toml", *ports, "--json"],
                cwd=folder,
                env=environment,
                stdout=results,
                stderr=subprocess.DEVNULL,
            )
            used = os.wait4(running.pid, 0)[2]
            took = time.perf_counter() - began
        found = json.loads((folder / "results.json").read_text())
    return took, sum(one["verdict"] == "conforms" for one in found), used.ru_utime + used.ru_stime


# Calls the command and writes down how much memory this very process had at most: what the system says of an ended child
# counts from the size of its parent.
_MEASURED = """
import atexit, pathlib, sys
from wexicon.cli.main import main
status = pathlib.Path("/proc/self/status")
peak = lambda: next(line.split()[1] for line in status.read_text().splitlines() if line.startswith("VmHWM"))
atexit.register(lambda: pathlib.Path("peak").write_text(peak()))
main(sys.argv[1:])
"""


def rehearsed(count: int) -> tuple[float, float]:
    """Rehearses a sheet of `count` units by the command; gives the seconds that it took and the most memory of its own process
    (megabytes)."""
    with _folder(count) as (folder, environment):
        words = [sys.executable, "-c", _MEASURED, "rehearse", "sheet.toml"]
        began = time.perf_counter()
        subprocess.run(words, cwd=folder, env=environment, stdout=subprocess.DEVNULL, check=True)
        return time.perf_counter() - began, int((folder / "peak").read_text()) / 1024


@contextmanager
def _folder(count: int) -> Iterator[tuple[Path, dict[str, str]]]:
    """A folder with the sheet and its table, and an environment that keeps all that is kept there."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "units.csv").write_text("mast\n" + "".join(f"{number:05}\n" for number in range(1, count + 1)))
        (folder / "sheet.toml").write_text(SHEET)
        own = {f"WEXICON_{word.upper()}": str(folder / word) for word in ("run", "state", "config", "lexicons")}
        yield folder, {**os.environ, **own}
