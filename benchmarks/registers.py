"""Claims as the register grows, and many runs that begin on one sheet at once; PostgreSQL only if it is installed.

The rule: the baseline is the same work on a small register, in the same run.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.records.server import PostgresServer

from wexicon.records.claims import Run
from wexicon.records.register import Register

FEW, MANY = 1_000, 100_000
ROWS, RUNS = 10_000, 16
CLAIMS = 200


def claim_rate(where: str, folder: Path, size: int) -> float:
    """Units claimed and started in a second, of a sheet with `size` units."""
    run = Run(Register(where, folder / "waiting").database, "left", "s" * 64)
    tasks = [f"{size}-{number}" for number in range(size)]
    run.begin([(task, task) for task in tasks])
    began = time.perf_counter()
    for number in range(CLAIMS):
        task = run.take(tasks[number : number + 64])
        assert task
        run.begin_on(task, f"lindle-l9 {size}-{number}", again=False)
    rate = CLAIMS / (time.perf_counter() - began)
    run.end()
    return rate


def begin_at_once(where: str, folder: Path) -> float:
    """The slowest of `RUNS` runs that register the same `ROWS` units at the same time, in seconds."""
    tasks = [(f"t{number}", f"mast {number}") for number in range(ROWS)]
    took: list[float] = []
    ready = threading.Barrier(RUNS)

    def one(number: int) -> None:
        run = Run(Register(where, folder / f"waiting-{number}").database, f"bench {number}", "t" * 64)
        ready.wait()
        began = time.perf_counter()
        run.begin(tasks)
        took.append(time.perf_counter() - began)

    Run(Register(where, folder / "first").database, "first", "t" * 64).begin(tasks[:1])
    threads = [threading.Thread(target=one, args=(number,)) for number in range(RUNS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(took) == RUNS
    return max(took)


@contextmanager
def places() -> Iterator[list[tuple[str, str, Path]]]:
    """Registers to measure: what each is called, where it is, and a folder for it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        found = [("SQLite", str(folder / "units.db"), folder)]
        try:
            server = PostgresServer()
        except AssertionError as fault:
            print(f"PostgreSQL left out: {fault}", file=sys.stderr)
            yield found
            return
        try:
            yield [*found, ("PostgreSQL", server.url, folder)]
        finally:
            server.close()


def registers(line: Callable[[str, str, str], None]) -> None:
    """A row for each: claims with many units over claims with few, and the slowest of the runs that begin at once."""
    with places() as all_:
        for name, where, folder in all_:
            few = statistics.median(claim_rate(where, folder, FEW + extra) for extra in range(3))
            many = claim_rate(where, folder, MANY)
            line(
                f"claims in a second on {name}, {MANY:,} units / {FEW:,}", f"{many / few:.2f} x ({many:.0f}/s)", "0.8 x"
            )
            line(
                f"{RUNS} runs begin on {ROWS:,} units on {name}, the slowest",
                f"{begin_at_once(where, folder):.2f} s",
                "1 s",
            )
