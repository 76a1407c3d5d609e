"""The record: two traces compared, and a report made, each over the reading of what it is made from.

The rule: the batch is made up, with a failure in every fifth unit; its size is what the goal is stated for.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from wexicon.core.protocol.recorded import RecordedExchange
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.register import Register
from wexicon.records.trace_list import compare

STEPS = ("attention", "identify", "read", "write name", "save", "restart", "read back", "leave")


def comparing(size: int) -> float:
    """How long the comparison of two traces of `size` exchanges takes that differ in one byte, one exchange and one time."""

    def trace() -> list[RecordedExchange]:
        return [RecordedExchange(f"AT+S{n}?", heard=[(0.01, f"+S {n}", "answer")]) for n in range(size)]

    a, b = trace(), trace()
    b[size // 2].heard = [(0.01, "+S x", "answer")]
    del b[size // 3]
    began = time.perf_counter()
    made = compare(a, b)
    took = time.perf_counter() - began
    assert len(made.differences) == 2, made.differences
    return took


def entries(count: int) -> list[Entry]:
    """A batch of this many units."""
    made, shown = [], lambda text: {"value": None, "unit": "", "shown": text}
    for number in range(count):
        bad = number % 5 == 4
        result: dict[str, Any] = {
            "verdict": "failed" if bad else "conforms",
            "identity": {"model": "LINDLE-L9", "serial": f"L9-{number:05d}"},
            "seconds": 4.0 + number % 7,
            "steps": [{"step": step, "seconds": 0.5 + number % 3} for step in STEPS],
            "settings": [
                {"name": name, "outcome": "changed", "before": shown("0"), "after": shown("6")}
                for name in ("name", "network", "frequency", "rate")
            ],
            "tests": [
                {
                    "name": "range",
                    "verdict": "passed",
                    "seconds": 1.5,
                    "measurements": [{"name": "signal", "value": -80.0 - number % 9, "unit": "dBm", "low": -110}],
                }
            ],
            "failure": {"step": "write name", "what": "the module returned ERR 4", "heard": ["ERR 4"]} if bad else None,
        }
        unit = f"lindle-l9 L9-{number:05d}"
        made.append(
            Entry(
                unit,
                f"mast {number}",
                "lindle-l9",
                "provision",
                result["verdict"],
                "",
                "s",
                "d",
                {},
                msgspec.convert(result, RecordedResult),
            )
        )
    return made


def reporting(count: int) -> tuple[float, float]:
    """How long `wexicon report` takes for this many units, and `wexicon units export` of the same to JSON."""
    with tempfile.TemporaryDirectory() as folder:
        where = str(Path(folder) / "units.db")
        register = Register(where, Path(folder) / "waiting")
        register.database.write(lambda connection: register._insert(connection, entries(count)))
        register.database.close()

        def run(*words: str) -> Callable[[], float]:
            def timed() -> float:
                began = time.perf_counter()
                command = [sys.executable, "-m", "wexicon", *words, "--register", where, "--force"]
                subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
                return time.perf_counter() - began

            return timed

        ours, base = run("report", f"{folder}/r.html"), run("units", "export", f"{folder}/u.json")
        pairs = [(ours(), base()) for _ in range(3)]
        return statistics.median(one for one, _ in pairs), statistics.median(one for _, one in pairs)
