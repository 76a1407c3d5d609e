"""The trace: the time-stamped record of one session on one link, JSON Lines, one record for each thing that happened.

The rule: what is written holds no secret (the session's redactor stands before it), and can be read again record by
record in constant memory. `at` is seconds since the session began; the first record has the wall time (UTC) that belongs
to it. What happened is on the disk at the latest a quarter of a second later, and before anything is waited for longer
than that.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import msgspec

from wexicon import __version__
from wexicon.core.faults import CallFault, Complaint, FileFault
from wexicon.core.protocol.link import Clock
from wexicon.core.protocol.observations import (
    Asked,
    Began,
    Decided,
    Heard,
    Judged,
    Listener,
    Observation,
    Role,
    Said,
    Signalled,
    Started,
    Tuned,
)
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.session import AWAITED, SAID_AGAIN
from wexicon.core.text import garbled, to_bytes, to_text, visible
from wexicon.core.tuning import Tuning
from wexicon.files import create, open_regular

FLUSH_EVERY = 0.25
# Steps in which the module is looked for.
SEARCHES = ("attention", "come back", "restart", "power cycle")
# A trace that grows beyond this (bytes) is of a port that babbles.
LARGEST_TRACE = 256 * 1024 * 1024
# Bounded also where each is as long as a line may be.
_MOST_PENDING = 512
_CHUNK = 262_144


class What(StrEnum):
    """What a record tells."""

    OPENED = "opened"
    SAID = "said"
    HEARD = "heard"
    TUNED = "tuned"
    SIGNALLED = "signalled"
    ASKED = "asked"
    STEP = "step"
    DECIDED = "decided"
    STARTED = "started"
    JUDGED = "judged"
    CLOSED = "closed"


class Record(msgspec.Struct, omit_defaults=True, gc=False):
    """One line of a trace; the fields are there where they mean something. What JSON cannot carry as text is in `hex`."""

    at: Annotated[float, msgspec.Meta(ge=-1e9, le=1e9)]
    what: What
    text: str = ""
    hex: Annotated[str, msgspec.Meta(pattern="^([0-9a-f]{2})*$")] = ""
    role: Role | None = None
    exact: bool = False
    wall: datetime | None = None
    link: str = ""
    rate: int = 0
    frame: str = ""
    end: str = ""
    form: str = ""
    act: str = ""
    dtr: bool | None = None
    rts: bool | None = None
    wexicon: str = ""

    @property
    def content(self) -> str:
        """What was said or heard, whichever way it is written."""
        return to_text(bytes.fromhex(self.hex)) if self.hex else self.text


def record_of(seen: Observation, began: float) -> Record:
    """The record of an observation, in seconds since `began`."""
    at = round(seen.at - began, 6)
    # The two that are many stand first.
    if isinstance(seen, Heard):
        return Record(at, What.HEARD, seen.text, "", seen.role)
    if isinstance(seen, Said):
        return Record(at, What.SAID, seen.text, "", None, seen.exact)
    if isinstance(seen, Tuned):
        return Record(at, What.TUNED, rate=seen.tuning.rate, frame=seen.tuning.frame)
    if isinstance(seen, Signalled):
        return Record(at, What.SIGNALLED, dtr=seen.dtr, rts=seen.rts)
    if isinstance(seen, Asked):
        return Record(at, What.ASKED, seen.text, act=seen.act)
    if isinstance(seen, Began):
        return Record(at, What.STEP, seen.step)
    if isinstance(seen, Started):
        return Record(at, What.STARTED, f"the module has started again, by a {seen.how}")
    if isinstance(seen, Judged):
        return Record(at, What.JUDGED, f"{seen.setting}: {seen.outcome}" + (f" ({seen.note})" if seen.note else ""))
    return Record(at, What.DECIDED, seen.text if isinstance(seen, Decided) else repr(seen))


class TraceWriter(Listener):
    """Writes one trace. What it takes has passed the redactor of the session. After `most` bytes nothing more is written but
    that the trace is full. Raises CallFault where the file cannot be made, or is there and not to be overwritten."""

    def __init__(
        self,
        path: Path,
        clock: Clock,
        *,
        link: str,
        tuning: Tuning,
        end: str = "crlf",
        form: str = "",
        most: int = LARGEST_TRACE,
        force: bool = False,
    ) -> None:
        self.path = path
        self._clock = clock
        self._room = most
        self._began = clock.now()
        self._due = self._began + FLUSH_EVERY
        self._encoder = msgspec.json.Encoder()
        self._pending: list[Observation] = []
        self._ended = False
        self._file = create(path, force=force)
        first = Record(
            0.0,
            What.OPENED,
            wall=clock.wall(self._began),
            link=link,
            rate=tuning.rate,
            frame=tuning.frame,
            end=end,
            form=form,
            wexicon=__version__,
        )
        self._write([first])

    def note(self, seen: Observation) -> None:
        """Takes an observation; nothing once the trace has ended."""
        if self._ended:
            return
        pending = self._pending
        pending.append(seen)
        if seen.at > self._due or len(pending) > _MOST_PENDING:
            self.idle()

    def idle(self) -> None:
        """Writes what has not been written yet."""
        pending, self._pending = self._pending, []
        if pending and not self._ended:
            began = self._began
            self._due = pending[-1].at + FLUSH_EVERY
            records = [record_of(seen, began) for seen in pending]
            try:
                self._write(records)
            except UnicodeEncodeError:
                self._write([self.encodable(record) for record in records])

    @staticmethod
    def encodable(record: Record) -> Record:
        """The record with what is no UTF-8 in hexadecimal."""
        text = record.text
        if not text.isascii() and (data := to_bytes(text)) != text.encode("utf-8", "replace"):
            record.text, record.hex = "", data.hex()
        return record

    def _write(self, records: list[Record]) -> None:
        if self._room <= 0:
            return
        data = self._encoder.encode_lines(records)
        self._room -= len(data)
        if self._room <= 0:
            full = Record(records[-1].at, What.DECIDED, "the trace is full; what follows is not recorded")
            data = self._encoder.encode_lines([full])
        self._file.write(data)

    def close(self) -> None:
        """Ends the trace."""
        if not self._ended:
            now = self._clock.now()
            with contextlib.suppress(OSError):
                self.idle()
                self._write([Record(round(now - self._began, 6), What.CLOSED)])
                os.fsync(self._file.fileno())
            self._ended = True
            with contextlib.suppress(OSError):
                self._file.close()


class Live(Listener):
    """Shows each record as it happens."""

    def __init__(self, show: Callable[[Record], None], began: float) -> None:
        self._show, self._began = show, began

    def note(self, seen: Observation) -> None:
        self._show(TraceWriter.encodable(record_of(seen, self._began)))


def read_trace(path: Path) -> Iterator[Record]:
    """The records of a trace, one after the other. Raises FileFault at the first line that is none."""
    for records in read_many(path):
        yield from records


def read_many(path: Path) -> Iterator[list[Record]]:
    """The same, some thousand at a time."""
    decoder = msgspec.json.Decoder(Record)
    number = 0
    try:
        with open_regular(path) as file:
            while lines := file.readlines(_CHUNK):
                try:
                    records = decoder.decode_lines(b"".join(lines))
                    whole = len(records) == len(lines)
                except (msgspec.DecodeError, UnicodeDecodeError):
                    whole = False
                if not whole:
                    records = []
                    for line in lines:
                        number += 1
                        records.append(_decoded(decoder, path, number, line))
                else:
                    number += len(lines)
                yield records
    except OSError as fault:
        raise CallFault(f"cannot be read: {fault.strerror}", where=str(path)) from None


def _decoded(decoder: msgspec.json.Decoder[Record], path: Path, number: int, line: bytes) -> Record:
    try:
        return decoder.decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError) as fault:
        hint = "a trace is JSON Lines, one record a line, as wexicon writes it"
        source = visible(line[:100].rstrip(b"\n"))
        raise FileFault(str(path), [Complaint(f"not a trace record: {fault}", "", number, 0, source, hint)]) from None


def recorded(path: Path) -> Recorded:
    """A trace as exchanges: what was said, and all that came until something else was said."""
    found: list[RecordedExchange] = []
    current = RecordedExchange(None)
    first: Tuning | None = None
    tuning, began, end, form, searching = Tuning(), 0.0, "crlf", "lines", False
    for record in read_trace(path):
        searching = record.text in SEARCHES if record.what is What.STEP else searching
        form = record.form or form
        if record.what is What.DECIDED:
            _mark([*found, current], record.text)
        if record.what in (What.OPENED, What.TUNED) and record.rate:
            try:
                tuning = Tuning.of(record.rate, record.frame or tuning.frame)
            except ValueError as fault:
                raise FileFault(str(path), [Complaint(str(fault))]) from None
            end = record.end or end
            first = first or tuning
            if not found and current.said is None and not current.heard:
                current.tuning = tuning
        elif record.what is What.SAID:
            if current.said is not None or current.heard:
                current.lasted = max(0.0, record.at - began)
                found.append(current)
            current = RecordedExchange(record.content, record.exact, tuning, searching=searching)
            began = record.at
        elif record.what is What.HEARD and not (record.role in (Role.ASIDE, Role.BROKEN) and garbled(record.content)):
            # Garbage is what our own wrong rate made of something; nobody said it.
            current.heard.append((max(0.0, record.at - began), record.content, str(record.role or "")))
    if current.said is not None or current.heard:
        found.append(current)
    return Recorded(found, end, form, first or Tuning())


def _mark(exchanges: list[RecordedExchange], decided: str) -> None:
    """What the session said of the exchanges so far: that the last is said again, or that something unknown was awaited."""
    if decided == SAID_AGAIN:
        exchanges[-1].again = True
    elif decided.startswith(AWAITED):
        awaited = decided.removeprefix(AWAITED)
        for exchange in reversed(exchanges):
            for index, (at, text, role) in enumerate(exchange.heard):
                if text == awaited and role == "aside":
                    exchange.heard[index] = (at, text, "event")
                    return
