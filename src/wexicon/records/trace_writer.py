"""Writes a trace while a session goes on.

The rule: what it takes has passed the session's redactor, so a trace holds no secret. A record is on the disk at the latest
a quarter of a second after its event, and before anything is waited for longer than that.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.link import Clock, Link
from wexicon.core.protocol.observations import Listener, Observation, Said
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.files import create
from wexicon.records.trace import FORMAT, Record, What, as_recorded, record_of
from wexicon.version import __version__

FLUSH_EVERY = 0.25
# A trace that grows beyond this (bytes) is of a port that babbles.
LARGEST_TRACE = 256 * 1024 * 1024
# How large one part of a trace is that goes on in a new file (bytes).
PART = 32 * 1024 * 1024
# How many records are encoded together, if possible right after something was sent: the module takes its time to answer.
_TOGETHER = 8
# Bounds the memory of what is not written yet: observations, each of which may be as long as the longest line, and bytes.
_MOST_PENDING = 512
_MOST_BYTES = 65_536


class TraceWriter(Listener):
    """Writes one trace. After `most` bytes a last record says that the trace is full; with `parts` it goes on in a new file,
    and that many full ones are kept beside it: NAME-1.jsonl is the one before, NAME-2.jsonl the one before that. Raises
    CallFault if the file cannot be created, or exists and `force` is not set."""

    def __init__(
        self,
        path: Path,
        clock: Clock,
        *,
        link: str,
        tuning: Tuning,
        speech: Speech | None = None,
        most: int = LARGEST_TRACE,
        parts: int = 0,
        force: bool = False,
    ) -> None:
        self.path = path
        self.dropped = 0
        self._clock = clock
        self._room = self._most = most
        self._parts, self._full = parts, 0
        self._began = clock.now()
        self._due = self._began + FLUSH_EVERY
        self._encoder = msgspec.json.Encoder()
        self._pending: list[Observation] = []
        self._lines = bytearray()
        self._ended = False
        self._file = create(path, force=force)
        self._first = first = Record(
            0.0,
            What.OPENED,
            format=FORMAT,
            wall=clock.wall(self._began),
            link=link,
            rate=tuning.rate,
            frame=tuning.frame,
            station=tuning.station,
            end=speech.end if speech else "crlf",
            form=speech.answer if speech else "",
            layers=as_recorded(speech.layers if speech else ()),
            wexicon=__version__,
        )
        try:
            self._add([first])
            self.idle()
        except OSError as fault:
            self._file.close()
            path.unlink(missing_ok=True)
            raise CallFault(f"the trace cannot be written: {fault.strerror}", where=str(path)) from None

    def note(self, seen: Observation) -> None:
        """Takes an observation; nothing once the trace has ended."""
        if self._ended:
            return
        pending = self._pending
        pending.append(seen)
        if seen.at > self._due:
            self.idle()
        elif len(pending) > _TOGETHER and (seen.__class__ is Said or len(pending) > _MOST_PENDING):
            self._encode()

    def idle(self) -> None:
        """Writes what has not been written yet."""
        if self._ended:
            return
        if self._pending:
            self._due = self._pending[-1].at + FLUSH_EVERY
            self._encode()
        if self._lines:
            self._write()

    @property
    def began(self) -> float:
        """When the trace began, on its clock (seconds)."""
        return self._began

    def add(self, record: Record) -> None:
        """Adds a record; nothing once the trace has ended."""
        if not self._ended:
            self._encode()
            self._add([record])

    def _write(self) -> None:
        """Writes the lines that wait. Raises OSError; a disk that fills up takes a part of them first."""
        lines, self._lines = self._lines, bytearray()
        while lines:
            del lines[: self._file.write(lines)]

    def _encode(self) -> None:
        """Makes lines of what was observed."""
        if not self._pending:
            return
        pending, self._pending = self._pending, []
        began = self._began
        records = [record_of(seen, began) for seen in pending]
        try:
            self._add(records)
        except UnicodeEncodeError:
            self._add([record.encodable() for record in records])

    def _add(self, records: list[Record]) -> None:
        if self._room <= 0:
            return
        data = self._encoder.encode_lines(records)
        self._room -= len(data)
        if self._room <= 0 and self._parts:
            self._next_part()
            self._room -= len(data)
        elif self._room <= 0:
            full = Record(records[-1].at, What.LOGGED, "the trace is full; what follows is not recorded")
            data = self._encoder.encode_lines([full])
        self._lines += data
        if len(self._lines) > _MOST_BYTES:
            self._write()

    def _next_part(self) -> None:
        """Goes on in a new file of the same name; the oldest full one goes. Raises OSError."""
        self._write()
        self._file.close()
        self._full += 1
        for number in range(min(self._full, self._parts + 1), 0, -1):
            older = self._part(number - 1)
            if number > self._parts:
                older.unlink(missing_ok=True)
                self.dropped += 1
            elif older.exists():
                older.rename(self._part(number))
        self._file = create(self.path, force=False)
        self._room = self._most
        self._lines += self._encoder.encode_lines([self._first])

    def _part(self, number: int) -> Path:
        """The file of a full part; 0 is the one that is being written."""
        return self.path.with_name(f"{self.path.stem}-{number}{self.path.suffix}") if number else self.path

    def close(self) -> None:
        """Ends the trace. Raises CallFault if its end cannot be written."""
        if self._ended:
            return
        now = self._clock.now()
        try:
            self.idle()
            self._add([Record(round(now - self._began, 6), What.CLOSED)])
            self.idle()
            os.fsync(self._file.fileno())
        except OSError as fault:
            what = f"the end of the trace cannot be written: {fault.strerror}"
            raise CallFault(what, where=str(self.path)) from None
        finally:
            self._ended = True
            with contextlib.suppress(OSError):
                self._file.close()


class PartyTrace(Listener):
    """What one party of a dialogue does, in the trace of all of them, and shown as it happens by `live`."""

    def __init__(
        self,
        writer: TraceWriter,
        name: str,
        link: Link,
        dialect: Dialect,
        live: Callable[[Record], None] | None = None,
    ) -> None:
        self._writer, self._name, self._live = writer, name, live
        speech, tuning = dialect.speech, link.tuning
        at = round(link.clock.now() - writer.began, 6)
        opened = Record(at, What.OPENED, link=link.name, rate=tuning.rate, frame=tuning.frame, end=speech.end)
        opened.station = tuning.station
        writer.add(msgspec.structs.replace(opened, form=speech.answer, layers=as_recorded(speech.layers), party=name))

    def note(self, seen: Observation) -> None:
        record = record_of(seen, self._writer.began).encodable()
        record.party = self._name
        if self._live:
            self._live(record)
        self._writer.add(record)

    def idle(self) -> None:
        self._writer.idle()


class Live(Listener):
    """Shows each record as it happens."""

    def __init__(self, show: Callable[[Record], None], began: float) -> None:
        self._show, self._began = show, began

    def note(self, seen: Observation) -> None:
        self._show(record_of(seen, self._began).encodable())
