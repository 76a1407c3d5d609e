"""The command itself over many units: `wexicon provision` of a sheet on pseudo-terminals that other processes serve."""

from __future__ import annotations

import json
import multiprocessing
import os
import subprocess
import sys
import tempfile
import time
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


def by_command(count: int, *, profile: str = "") -> tuple[float, int]:
    """Provisions `count` units by the command, on as many ports at once; gives the seconds from the first unit's first step to
    the last one's verdict as the command's whole time less that of a start alone, and how many conform."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "units.csv").write_text("mast\n" + "".join(f"{number:04}\n" for number in range(1, count + 1)))
        (folder / "sheet.toml").write_text(SHEET)
        own = {f"WEXICON_{word.upper()}": str(folder / word) for word in ("run", "state", "config", "lexicons")}
        with serve_in_processes(count) as ports:
            words = [sys.executable, *(["-m", "cProfile", "-o", profile] if profile else []), "-m", "wexicon"]
            began = time.perf_counter()
            done = subprocess.run(
                [*words, "provision", "sheet.toml", *ports, "--json"],
                cwd=folder,
                env={**os.environ, **own},
                capture_output=True,
                text=True,
            )
            took = time.perf_counter() - began
    results = json.loads(done.stdout)
    return took, sum(one["verdict"] == "conforms" for one in results)


if __name__ == "__main__":
    multiprocessing.freeze_support()
    for count in map(int, sys.argv[1:] or ("1", "64")):
        print(count, by_command(count))
