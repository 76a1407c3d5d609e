"""How much processor time the tests take, by kind: `python -m benchmarks.suite [PYTEST OPTIONS]`.

The rule: processor time, of the test and of the processes that it started and ended, since wall time on a shared machine says
little. A test counts as the first kind in KINDS that it shows by what it did, not by its name.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

KINDS = ("docs", "plug-in", "PostgreSQL", "hypothesis", "process", "served", "figures", "in process")
LOG = "WEXICON_TEST_TIMES"
Row = dict[str, Any]


def used() -> tuple[float, float]:
    """Processor seconds of this process, and of its ended children."""
    ours, theirs = (resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return ours.ru_utime + ours.ru_stime, theirs.ru_utime + theirs.ru_stime


def watched() -> dict[str, int]:
    """Counts of ports served and figures drawn from now on: two of the kinds are known by them."""
    from matplotlib.figure import Figure

    from wexicon.rigs.serving import Server

    counts = {"served": 0, "figures": 0}
    for owner, name, kind in ((Server, "__init__", "served"), (Figure, "savefig", "figures")):
        usual = getattr(owner, name)

        def counted(*args: object, kind: str = kind, usual: object = usual, **options: object) -> object:
            counts[kind] += 1
            return usual(*args, **options)  # type: ignore[operator]

        setattr(owner, name, counted)
    return counts


class Times:
    """The plug-in of a worker: one JSON line a test."""

    def __init__(self, log: Path) -> None:
        self._log = log
        self._counts = watched()

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_protocol(self, item: pytest.Item) -> Iterator[None]:
        before, counts, began = used(), dict(self._counts), time.perf_counter()
        done = yield
        ours, theirs = (after - earlier for after, earlier in zip(used(), before, strict=True))
        row = {
            "test": item.nodeid,
            "kind": self._kind(item, counts, theirs),
            "own": round(ours, 3),
            "children": round(theirs, 3),
            "wall": round(time.perf_counter() - began, 3),
        }
        with self._log.open("a") as log:
            log.write(json.dumps(row) + "\n")
        return done

    def _kind(self, item: pytest.Item, counts: dict[str, int], children: float) -> str:
        fixtures = getattr(item, "fixturenames", ())
        shown = {
            "docs": "tests/docs/" in item.nodeid,
            "plug-in": "pytester" in fixtures or "tests/testing/" in item.nodeid,
            "PostgreSQL": "postgres" in " ".join(fixtures) or "[postgresql" in item.nodeid,
            "hypothesis": getattr(getattr(item, "obj", None), "is_hypothesis_test", False),
            "process": children > 0.05,
            "served": self._counts["served"] > counts["served"],
            "figures": self._counts["figures"] > counts["figures"],
        }
        return next((kind for kind in KINDS if shown.get(kind)), "in process")


def pytest_configure(config: pytest.Config) -> None:
    if log := os.environ.get(LOG):
        config.pluginmanager.register(Times(Path(log)))


def spent(row: Row) -> float:
    """Processor seconds of a test."""
    return float(row["own"]) + float(row["children"])


def waited(row: Row) -> float:
    """Seconds that a test did not use the processor."""
    return max(0.0, float(row["wall"]) - spent(row))


def table(rows: list[Row]) -> None:
    """Prints each kind, then the tests that use the processor most, and those that wait longest."""
    print(f"{'kind':<12} {'tests':>6} {'CPU s':>8} {'waits s':>8}")
    for kind in (*KINDS, "all"):
        some = [row for row in rows if kind in ("all", row["kind"])]
        print(f"{kind:<12} {len(some):>6} {sum(map(spent, some)):>8.1f} {sum(map(waited, some)):>8.1f}")
    for what, measure in (("processor", spent), ("waiting", waited)):
        print(what)
        for row in sorted(rows, key=measure, reverse=True)[:25]:
            print(f"  {measure(row):>6.1f} s  {row['kind']:<11} {row['test']}")


def main(words: list[str]) -> int:
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder, "times")
        log.touch()
        began = time.perf_counter()
        command = [sys.executable, "-m", "pytest", "-p", "benchmarks.suite", *words]
        status = subprocess.run(command, env={**os.environ, LOG: str(log)}, check=False).returncode
        wall, spent = time.perf_counter() - began, sum(used())
        rows = [json.loads(line) for line in log.read_text().splitlines()]
    print(f"wall {wall:.0f} s, processor {spent:.0f} s; exit status {status}")
    table(rows)
    return status


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
