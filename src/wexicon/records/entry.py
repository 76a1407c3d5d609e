"""One record of the register, as it waits on disk and as it is shown.

The rule: it says who it was, what was done, and on what that rests; nothing secret is in it.
"""

from __future__ import annotations

import os
from datetime import UTC, datetime
from typing import Any

import msgspec

from wexicon.bench_settings import value_of


def bench_name() -> str:
    """What this bench is called: by its settings, or the machine's name."""
    return value_of("bench") or (os.uname().nodename if hasattr(os, "uname") else _host())


def _host() -> str:
    """The machine's name on a system that has no uname."""
    import socket

    return socket.gethostname()


class _ShownValue(msgspec.Struct):
    shown: str


class _Line(msgspec.Struct):
    name: str
    outcome: str = ""
    before: _ShownValue | None = None
    after: _ShownValue | None = None


class RecordedResult(msgspec.Struct):
    """What every recorded result has: its settings, with what was read of each."""

    settings: list[_Line] = []
    identity: dict[str, str] = {}
    digests: dict[str, str] = {}


class Entry(msgspec.Struct):
    """One record: which unit it was (its family and its identity), what it is called in the sheet, what was done (`did`), the
    verdict and its evidence, the sheet's title and digest, the row of the table, the bench, when (UTC), the whole result;
    `task` is the unit of a sheet that it finishes, where benches share those; `replaces` the id of the record whose place it
    takes: one of the same unit, made before its tests had run."""

    unit: str
    name: str
    lexicon: str
    did: str
    verdict: str
    evidence: str
    sheet: str
    digest: str
    row: dict[str, str]
    result: dict[str, Any]
    id: str = msgspec.field(default_factory=lambda: os.urandom(16).hex())
    bench: str = msgspec.field(default_factory=bench_name)
    at: str = msgspec.field(default_factory=lambda: datetime.now(UTC).isoformat(timespec="milliseconds"))
    task: str = ""
    replaces: str = ""

    @property
    def when(self) -> str:
        """When and where, as it is reported."""
        return f"on {self.at[:16].replace('T', ' ')} UTC at {self.bench}"
