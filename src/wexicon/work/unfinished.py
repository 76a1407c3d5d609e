"""Work that was begun on a unit and not seen through: written down before the first write, struck out after the last reading.

The rule: whatever interrupts a run, the next one on that unit finds the record. It names settings, never values.
"""

from __future__ import annotations

import contextlib
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path

import msgspec

from wexicon.files import write_whole


class Unfinished(msgspec.Struct):
    """What was begun: on which unit, when, with which settings, in which process."""

    unit: str
    began: datetime
    settings: list[str]
    sheet: str = ""
    process: int = 0


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
            return msgspec.json.decode(self._path(unit).read_bytes(), type=Unfinished)
        except FileNotFoundError:
            return None
        except (OSError, msgspec.DecodeError):
            # A record that cannot be read is a record: the work was begun.
            return Unfinished(unit, datetime.now(UTC), [])

    def open(self, record: Unfinished) -> None:
        write_whole(self._path(record.unit), msgspec.json.encode(record))

    def close(self, unit: str) -> None:
        with contextlib.suppress(FileNotFoundError):
            self._path(unit).unlink()
