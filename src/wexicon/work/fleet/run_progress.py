"""Writes into the register how far a run is, so that it can be watched from any bench.

The rule: at most one write a second, by a thread of its own; a register that is away delays no unit. A run that is over
within the first second leaves no row.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import suppress
from typing import TYPE_CHECKING

from wexicon.core.faults import Fault
from wexicon.core.protocol.observations import Began, Listener, Observation
from wexicon.work.fleet.scheduler import ProgressCallback, UnitProgress

if TYPE_CHECKING:
    from wexicon.records.progress import ProgressRow
    from wexicon.records.register import Register

# How often the row is written (seconds): after a change, and as a sign of life.
EVERY, ALIVE = 1.0, 5.0


class RunProgress:
    """One run of `total` units; a context. `told` takes the progress of its units and passes it on."""

    def __init__(self, register: Callable[[], Register], sheet: str, total: int, told: ProgressCallback) -> None:
        self._register, self._sheet, self._total, self._pass_on = register, sheet, total, told
        self._lock = threading.Lock()
        self._verdicts: dict[str, str] = {}
        self._doing: dict[str, tuple[str, str]] = {}
        self._failure = ""
        self._changed = True
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._tell, name="progress", daemon=True)

    def told(self, progress: UnitProgress) -> None:
        """A unit has proceeded."""
        with self._lock:
            self._changed = True
            if progress.result is not None:
                self._doing.pop(progress.unit, None)
                self._verdicts[progress.unit] = str(progress.result.verdict)
                if failure := progress.result.failure:
                    self._failure = f"{progress.unit}: {failure.step}: {failure.what}".replace(": : ", ": ")
            elif progress.port:
                self._doing[progress.unit] = (progress.port, progress.step)
            else:
                self._doing.pop(progress.unit, None)
        self._pass_on(progress)

    def __enter__(self) -> RunProgress:
        self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._over.set()
        self._thread.join()

    def _tell(self) -> None:
        row: ProgressRow | None = None
        quiet = 0.0
        while not self._over.wait(EVERY):
            quiet += EVERY
            if not self._changed and quiet < ALIVE:
                continue
            with suppress(Fault, OSError):
                row = row or self._row()
                self._write(row)
                quiet = 0.0
        if row and row.written:
            with suppress(Fault, OSError):
                self._write(row, ended=True)

    def _row(self) -> ProgressRow:
        from wexicon.records.progress import ProgressRow

        register = self._register()
        return ProgressRow(register.database, register.bench, self._sheet, self._total)

    def _write(self, row: ProgressRow, *, ended: bool = False) -> None:
        from wexicon.records.progress import Doing

        with self._lock:
            self._changed = False
            doing = [] if ended else [Doing(unit, *where) for unit, where in self._doing.items()]
            failed = sum(verdict == "failed" for verdict in self._verdicts.values())
            done = sum(verdict != "skipped" for verdict in self._verdicts.values())
            failure = self._failure
        row.write(done, failed, doing, failure, ended=ended)


class UnitSteps(Listener):
    """Reports the steps of one unit."""

    def __init__(self, unit: str, port: str, progress: ProgressCallback) -> None:
        self._unit, self._port, self._progress = unit, port, progress

    def note(self, seen: Observation) -> None:
        if isinstance(seen, Began):
            self._progress(UnitProgress(self._unit, self._port, seen.step))
