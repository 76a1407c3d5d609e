"""Which traces there are, and which one a name means.

The rule: of each trace only its beginning and its end are read, so that a folder of large ones is listed at once; one that is
cut off in the middle of a line, or still grows, is listed too.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault
from wexicon.files import open_regular
from wexicon.records.trace import Record, What

# How much of the end of a trace is read: the last records are there.
TAIL = 16_384
# A dated trace: when it began, and what it is of.
_DATED = re.compile(r"\d{4}-\d\d-\d\d-\d{6}-\d{6}-(.+)")


class TraceInfo(msgspec.Struct):
    """One trace: its file, when it began (UTC), the port, what it is of (by its file's name), the unit, what was done and its
    verdict, and how long it is (seconds). `open`: it has no end: it still grows, or was cut off."""

    path: str
    when: datetime | None = None
    port: str = ""
    title: str = ""
    unit: str = ""
    work: str = ""
    verdict: str = ""
    seconds: float = 0.0
    open: bool = True


def read_info(path: Path) -> TraceInfo | None:
    """What a trace is, from its beginning and its end; None if it is none."""
    decoder = msgspec.json.Decoder(Record)
    dated = _DATED.fullmatch(path.stem)
    try:
        with open_regular(path) as file:
            first = decoder.decode(file.readline())
            if first.what is not What.OPENED:
                return None
            size = path.stat().st_size
            file.seek(max(0, size - TAIL))
            lines = file.read().split(b"\n")
    except (OSError, msgspec.DecodeError, UnicodeDecodeError, CallFault):
        return None
    info = TraceInfo(str(path), first.wall, first.link, dated[1] if dated else path.stem)
    for line in lines:
        try:
            one = decoder.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError):
            # The first line may be cut, the last one too.
            continue
        info.seconds = max(info.seconds, one.at)
        if one.what is What.FINISHED:
            info.work, info.unit, info.verdict = one.text, one.name or info.unit, one.outcome
        elif one.what is What.CLOSED:
            info.open = False
    return info


def all_traces(folder: Path) -> Iterator[TraceInfo]:
    """The traces of a folder, the newest first."""
    if folder.is_dir():
        for path in sorted(folder.glob("*.jsonl"), reverse=True):
            if (info := read_info(path)) is not None:
                yield info


def in_file_names(title: str) -> str:
    """A title as the names of files have it."""
    return re.sub(r"[^A-Za-z0-9_-]+", "-", title).strip("-")


def find_trace(name: str, folder: Path) -> Path:
    """The trace that a name means: a file; `last`; or the newest one of a unit (its identity, or its name in a sheet), of a
    port, or of what was done. Raises CallFault."""
    path = Path(name)
    if path.exists() or path.suffix == ".jsonl":
        return path
    for info in all_traces(folder):
        own = (info.unit, info.unit.partition(" ")[2], info.port, info.title)
        if name == "last" or name in own or in_file_names(name) == info.title:
            return Path(info.path)
    hint = "`wexicon trace list` shows all; a name is a unit, a port, what was done, or `last`."
    raise CallFault(f"there is no trace of {name}", hint=hint)
