"""The long campaigns by one command: `make campaign`, or `python -m benchmarks.campaign [--seed N] [--scale X]`.

The rule: the results are written to docs/proof.md with seed and commit, never by hand. A scale of 1 takes about half an hour on
two cores.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

from benchmarks import fuzz, interrupted, sheet_claims, truth
from benchmarks.adversities import ADVERSITIES
from benchmarks.wanted import WANTED

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "docs" / "proof.md"
BEGIN, END = "<!-- campaign -->", "<!-- /campaign -->"


def benches(units: int) -> tuple[str, int]:
    """Two benches at one PostgreSQL register; one is killed, the server is away for a while."""
    words = [sys.executable, "-m", "pytest", "-q", "-n", "0", "-m", "campaign"]
    done = subprocess.run(words, cwd=ROOT, env={**os.environ, "WEXICON_TEST_UNITS": str(units)}, check=False)
    return f"{units} units", int(done.returncode != 0)


def revision() -> str:
    """The commit, and whether anything but this page differs from it."""

    def git(*words: str) -> str:
        return subprocess.run(["git", *words], cwd=ROOT, capture_output=True, text=True, check=False).stdout.strip()

    changed = git("status", "--porcelain", "--untracked-files=no", "--", ".", ":!docs/proof.md")
    return (git("rev-parse", "--short=10", "HEAD") or "none") + (", changed" if changed else "")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--scale", type=float, default=1.0)
    given = parser.parse_args()
    seed, scale, began = given.seed, given.scale, time.perf_counter()
    rows: list[tuple[str, str, int]] = []
    totals, false = truth.campaign(round(60_000 * scale), seed, list(WANTED), list(ADVERSITIES))
    runs = sum(counts["runs"] for counts in totals.values())
    rows.append(("truth: what a result claims, against the stand-in's flash", f"{runs:,} runs", len(false)))
    print(*rows[-1], *false, sep="\n  ", flush=True)
    counts, untrue = sheet_claims.campaign(round(800 * scale), seed)
    rows.append(("sheets: register, hand-over file, images, files", f"{round(800 * scale)} cases", len(untrue)))
    print(*rows[-1], *counts.items(), *untrue, sep="\n  ", flush=True)
    done, wrong = interrupted.interrupt(round(500 * scale), seed)
    told = ", ".join(f"{count} {how}" for how, count in sorted(done.items()))
    rows.append(("interrupted: the built program on pseudo-terminals", told, len(wrong)))
    print(*rows[-1], *wrong, sep="\n  ", flush=True)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["WEXICON_RUN"] = folder
        os.chdir(folder)
        cases, bad = fuzz.tried(30 * scale, seed)
        os.chdir(ROOT)
    rows.append((f"fuzz: files, bytes, lines for {len(fuzz.TARGETS)} readers", f"{cases:,} cases", bad))
    rows.append(("benches: two at one register, one killed, the server away", *benches(max(40, round(200 * scale)))))
    spent = round((time.perf_counter() - began) / 60)
    bad = sum(row[2] for row in rows)
    lines = [
        f"`make campaign` on {datetime.now(UTC):%Y-%m-%d}, commit {revision()}, seed {seed}, {spent} min:",
        "",
        "| campaign | size | wrong |",
        "|---|---|---|",
        *(f"| {what} | {size} | {count} |" for what, size, count in rows),
        "",
        "The first one by adversity:",
        "",
        *truth.table(totals, false),
    ]
    page = PAGE.read_text()
    head, _, rest = page.partition(BEGIN)
    PAGE.write_text("\n".join([head + BEGIN, *lines, END + rest.partition(END)[2]]))
    print("\n".join(lines[:9]))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
