"""Work that was started on a unit and not seen through: recorded before the first write, closed after the last reading.

The rule: whatever interrupts a run, the next one on that unit finds the record, on whichever bench. It names settings, and
says what they were before the first write; no secret is in it. It is closed only by an order that covers all of its settings;
after an exchange of modules both are unfinished.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault
from wexicon.core.results.unit import Shown, Unfinished
from wexicon.core.text import encodable
from wexicon.files import read_record, write_whole

if TYPE_CHECKING:
    from wexicon.records.register import Register


class Store:
    """Keeps records in memory, for work in virtual time."""

    def __init__(self) -> None:
        self._kept: dict[str, Unfinished] = {}

    def find(self, unit: str) -> Unfinished | None:
        """The record of a unit, if its work was not seen through."""
        return self._kept.get(unit)

    def open(self, record: Unfinished) -> None:
        """Writes a record down, surely."""
        self._kept[record.unit] = record

    def close(self, unit: str) -> None:
        """The work on a unit was seen through."""
        self._kept.pop(unit, None)


class FileStore(Store):
    """Keeps each record in a file of its own, on the disk before anything is written to a module."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self.folder = folder

    def _path(self, unit: str) -> Path:
        return self.folder / f"{sha256(unit.encode()).hexdigest()[:32]}.json"

    def find(self, unit: str) -> Unfinished | None:
        try:
            return read_record(self._path(unit), Unfinished)
        except CallFault:
            # A record that cannot be read is a record: the work was started.
            return Unfinished(unit, datetime.now(UTC), [])

    def all(self) -> list[Unfinished]:
        """All records that can be read, the oldest first."""
        return sorted((one for _, one in self._on_disk() if not one.ended), key=lambda one: one.began)

    def _on_disk(self) -> Iterator[tuple[Path, Unfinished]]:
        """Each record that can be read, with its file."""
        for path in self.folder.glob("*.json") if self.folder.is_dir() else ():
            with contextlib.suppress(CallFault):
                if one := read_record(path, Unfinished):
                    yield path, one

    def open(self, record: Unfinished) -> None:
        # What a module sent need be no UTF-8.
        write_whole(self._path(record.unit), msgspec.json.encode(encodable(msgspec.to_builtins(record))))

    def close(self, unit: str) -> None:
        with contextlib.suppress(FileNotFoundError):
            self._path(unit).unlink()


class RegisterStore(FileStore):
    """Keeps each record in a file and in the register, so that another bench that gets the module knows of it. While the
    register is away the file is enough, and the register hears of it later."""

    def __init__(self, folder: Path, register: Callable[[], Register]) -> None:
        super().__init__(folder)
        self._register = register
        self._open: dict[str, list[str]] = {}

    @property
    def register(self) -> Register:
        return self._register()

    def find(self, unit: str) -> Unfinished | None:
        own = super().find(unit)
        try:
            if own and own.ended:
                self._finish(own, self._path(unit))
                return None
            there = self.register.unfinished(unit)
        except Fault:
            return None if own and own.ended else own
        if own and own.shared and not there:
            super().close(unit)  # another bench has finished it
            return None
        return own or there

    def flush_ended(self) -> None:
        """Reports to the register what was finished while it was away. Raises Fault if it still is."""
        for path, one in self._on_disk():
            if one.ended:
                self._finish(one, path)

    def _finish(self, one: Unfinished, path: Path) -> None:
        self.register.finish(one.unit)
        path.unlink(missing_ok=True)

    def open(self, record: Unfinished) -> None:
        record.process, record.bench = os.getpid(), self.register.bench
        if self._open.get(record.unit) == record.settings and not record.planted:
            return  # each write tells of it again
        with contextlib.suppress(Fault):
            self.register.begin(record)
            record.shared = True
        super().open(record)
        self._open[record.unit] = record.settings

    def close(self, unit: str) -> None:
        self._open.pop(unit, None)
        try:
            self.register.finish(unit)
        except Fault:
            own = FileStore.find(self, unit)
            if own and own.shared:
                own.ended = True
                FileStore.open(self, own)
                return
        super().close(unit)


class BegunWork:
    """The work on one unit by an order of these settings. `before` is what an earlier run has left."""

    def __init__(self, store: Store, unit: str, settings: Sequence[str], sheet: str) -> None:
        self.store = store
        self.unit = unit
        self.settings = list(settings)
        self.sheet = sheet
        self.before = store.find(unit)
        # What the settings were before the first write, by an earlier run where that has left work.
        self.prior: dict[str, Shown] = dict(self.before.prior) if self.before else {}

    @property
    def resumes(self) -> bool:
        """Whether an earlier run has left work, and this order covers it."""
        return self.before is not None and set(self.before.settings) <= set(self.settings)

    def told(self) -> str:
        """What an earlier run has left, in words; empty if nothing."""
        before = self.before
        if before is None:
            return ""
        when = f"{before.began:%Y-%m-%d %H:%M} UTC" + (f" at {before.bench}" if before.bench else "")
        if self.resumes:
            return f"resuming work started on {when}"
        others = ", ".join(name for name in before.settings if name not in self.settings)
        return f"work started on {when} stays unfinished: {others} not covered here. Run its sheet again."

    def remember(self, planted: dict[str, str]) -> None:
        """Writes down what is about to be done, with what an earlier run has left."""
        before = self.before if self.before and not self.resumes else None
        names = self.settings + [name for name in (before.settings if before else ()) if name not in self.settings]
        began, sheet = (before.began, before.sheet) if before else (datetime.now(UTC), self.sheet)
        self.store.open(Unfinished(self.unit, began, names, sheet, planted=planted, prior=self.prior))

    def suspect(self, other: str) -> str:
        """Another module answers, and nobody knows which one had what was written: both are unfinished. In words."""
        earlier = self.store.find(other)
        names = self.settings + [name for name in (earlier.settings if earlier else ()) if name not in self.settings]
        prior = earlier.prior if earlier else {}
        self.store.open(Unfinished(other, datetime.now(UTC), names, self.sheet, prior=prior))
        return f"{self.unit} and {other} are both unfinished: what was written may be in either"

    def close(self) -> None:
        """The work is finished; what an earlier run has left is not, unless this one covers it."""
        if self.before is None or self.resumes:
            self.store.close(self.unit)
        else:
            self.before.planted = {}
            self.store.open(self.before)
