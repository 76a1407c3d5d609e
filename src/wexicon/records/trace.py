"""The trace: the time-stamped record of one session on one link, JSON Lines, one record for each event; read in constant
memory, and as the exchanges of a session.

The rule: everything that a program needs is in a field of its own; `text` is the data sent or received, or a sentence for
people. `at` is seconds since the session started; the first record has the format number and the wall time (UTC). Format 1
(before 2026-11-26) had sentences instead of fields; format 2 lacks the record of how the work ended. Older formats are turned
into records of the present one here, and nowhere else.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, BinaryIO

import msgspec

from wexicon.core.faults import CallFault, Complaint, FileFault
from wexicon.core.protocol.observations import (
    Asked,
    Awaited,
    Began,
    Finished,
    Heard,
    Judged,
    Logged,
    Noted,
    Observation,
    Repeated,
    Role,
    Said,
    Signalled,
    Started,
    Transferred,
    Tuned,
)
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.speech import Layers
from wexicon.core.text import garbled, to_bytes, to_text, visible
from wexicon.core.tuning import Tuning
from wexicon.files import open_regular

FORMAT = 3


class What(StrEnum):
    """The kind of a record."""

    OPENED = "opened"
    SAID = "said"
    HEARD = "heard"
    TUNED = "tuned"
    SIGNALLED = "signalled"
    ASKED = "asked"
    STEP = "step"
    LOGGED = "log"
    REPEATED = "repeated"
    AWAITED = "awaited"
    STARTED = "started"
    JUDGED = "judged"
    TRANSFERRED = "transferred"
    FINISHED = "finished"
    CLOSED = "closed"


# The name of a party, setting, event or unit, in characters at most.
Name = Annotated[str, msgspec.Meta(max_length=16_000)]


class Record(msgspec.Struct, omit_defaults=True, gc=False):
    """One line of a trace; a field is there if it means something. Text that is no UTF-8 is in `hex`. Of an event `name` is
    its name in the lexicon and `values` its captures; of a judged setting `name` is the setting, with `outcome` and `note`;
    of a step `searching` is whether it looks for the module; of a start `how` is what was observed; of the
    end of the work `text` is what it was, `name` the unit, `outcome` the verdict. `party` is who it was, in a
    dialogue between several; each is opened by a record of its own."""

    at: Annotated[float, msgspec.Meta(ge=-1e9, le=1e9)]
    what: What
    text: str = ""
    hex: Annotated[str, msgspec.Meta(pattern="^([0-9a-f]{2})*$")] = ""
    role: Role | None = None
    exact: bool = False
    name: Name = ""
    values: dict[str, object] = {}
    outcome: str = ""
    note: str = ""
    how: str = ""
    searching: bool = False
    format: int = 0
    wall: datetime | None = None
    link: str = ""
    rate: int = 0
    frame: str = ""
    station: int | None = None
    end: str = ""
    form: str = ""
    layers: list[dict[str, Any]] = []
    act: str = ""
    dtr: bool | None = None
    rts: bool | None = None
    wexicon: str = ""
    party: Name = ""

    @property
    def content(self) -> str:
        """The data sent or received, decoded."""
        return to_text(bytes.fromhex(self.hex)) if self.hex else self.text

    def encodable(self) -> Record:
        """The same, with what is no UTF-8 in hexadecimal."""
        text = self.text
        if not text.isascii() and (data := to_bytes(text)) != text.encode("utf-8", "replace"):
            self.text, self.hex = "", data.hex()
        self.values = {name: visible(one) if isinstance(one, str) else one for name, one in self.values.items()}
        return self


def as_recorded(layers: Layers) -> list[dict[str, Any]]:
    """The layers of a lexicon's speech as a trace holds them."""
    made: list[dict[str, Any]] = msgspec.to_builtins(layers)
    return made


def record_of(seen: Observation, began: float) -> Record:
    """The record of an observation, in seconds since `began`."""
    at = round(seen.at - began, 6)
    # The two frequent ones come first.
    if isinstance(seen, Heard):
        if seen.name:
            return Record(at, What.HEARD, seen.text, "", seen.role, name=seen.name, values=dict(seen.values))
        return Record(at, What.HEARD, seen.text, "", seen.role)
    if isinstance(seen, Said):
        return Record(at, What.SAID, seen.text, "", None, seen.exact)
    return _other(seen, at)


def _other(seen: Observation, at: float) -> Record:
    match seen:
        case Tuned():
            return Record(at, What.TUNED, rate=seen.tuning.rate, frame=seen.tuning.frame, station=seen.tuning.station)
        case Signalled():
            return Record(at, What.SIGNALLED, dtr=seen.dtr, rts=seen.rts)
        case Asked():
            return Record(at, What.ASKED, seen.text, act=seen.act)
        case Began():
            return Record(at, What.STEP, seen.step, searching=seen.searching)
        case Repeated():
            return Record(at, What.REPEATED)
        case Awaited():
            return Record(at, What.AWAITED, seen.text)
        case Started():
            return Record(at, What.STARTED, how=seen.how)
        case Judged():
            return Record(at, What.JUDGED, name=seen.setting, outcome=seen.outcome, note=seen.note)
        case Finished():
            return Record(at, What.FINISHED, seen.work, name=seen.unit, outcome=seen.verdict)
        case Transferred():
            return Record(at, What.TRANSFERRED, values={"done": seen.done, "total": seen.total})
        case Noted():
            return Record(at, What.LOGGED, f"note: {seen.text}")
        case Logged():
            return Record(at, What.LOGGED, seen.text)
    return Record(at, What.LOGGED, repr(seen))


_CHUNK = 262_144
# How often it is looked whether a trace has grown (seconds).
_LOOKS = 0.1


def read_trace(path: Path) -> Iterator[Record]:
    """The records of a trace, one by one. Raises FileFault at the first line that is no record."""
    for records in read_many(path):
        yield from records


def read_many(path: Path, *, follow: bool = False) -> Iterator[list[Record]]:
    """The same, some thousand at a time; with `follow` it goes on while the trace grows, until its end was written."""
    decoder = msgspec.json.Decoder(Record)
    decode: Callable[[bytes], Record] = decoder.decode
    number = 0
    try:
        with open_regular(path) as file:
            while lines := _next_lines(file, follow):
                if number == 0:
                    decode = _decoder_of(decoder, path, lines[0])
                try:
                    records = decoder.decode_lines(b"".join(lines)) if decode == decoder.decode else []
                    whole = len(records) == len(lines)
                except (msgspec.DecodeError, UnicodeDecodeError):
                    whole = False
                if not whole:
                    records = list(_whole(decode, path, number, lines))
                number += len(lines)
                yield records
                if follow and records and records[-1].what is What.CLOSED:
                    return
    except OSError as fault:
        raise CallFault(f"cannot be read: {fault.strerror}", where=str(path)) from None


def _next_lines(file: BinaryIO, follow: bool) -> list[bytes]:
    """The next lines; with `follow` whole ones only, waited for."""
    while True:
        place = file.tell()
        lines = file.readlines(_CHUNK)
        if follow and lines and not lines[-1].endswith(b"\n"):
            # The rest of the last line is still to come.
            file.seek(place + sum(map(len, lines[:-1])))
            lines = lines[:-1]
        if lines or not follow:
            return lines
        time.sleep(_LOOKS)


def _whole(decode: Callable[[bytes], Record], path: Path, number: int, lines: list[bytes]) -> Iterator[Record]:
    """Records line by line. The last line of a trace that still grows, or of one that was cut off, may not be whole."""
    for at, line in enumerate(lines, 1):
        try:
            yield _decoded(decode, path, number + at, line)
        except FileFault:
            if line.endswith(b"\n") or (number == 0 and at == 1):
                raise


def _decoder_of(decoder: msgspec.json.Decoder[Record], path: Path, first: bytes) -> Callable[[bytes], Record]:
    """How the lines of a file are decoded, by the format number of its first one."""
    try:
        data = msgspec.json.decode(first)
        given = data.get("format", 1) if isinstance(data, dict) and data.get("what") == "opened" else FORMAT
    except (msgspec.DecodeError, UnicodeDecodeError):
        return decoder.decode
    if given == 1:
        return _decode_format_1
    if given not in (2, FORMAT):
        hint = f"this Wexicon reads formats 1 to {FORMAT}; use the version that wrote it"
        raise FileFault(str(path), [Complaint(f"trace format {given!r} is not known", line=1, hint=hint)])
    return decoder.decode


def _decoded(decode: Callable[[bytes], Record], path: Path, number: int, line: bytes) -> Record:
    try:
        return decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError) as fault:
        hint = "a trace is JSON Lines, one record a line, as wexicon writes it"
        source = visible(line[:100].rstrip(b"\n"))
        raise FileFault(str(path), [Complaint(f"not a trace record: {fault}", "", number, 0, source, hint)]) from None


# -- format 1: sentences instead of fields ------------------------------------------------------------------------------

_ROLES = {"stray": "unexpected", "aside": "unmatched", "broken": "corrupt"}
_SEARCHES = ("attention", "come back", "restart", "power cycle")
_JUDGED = re.compile(r"([^:]+): ([a-z ]+?)(?: \((.*)\))?", re.DOTALL)


def _decode_format_1(line: bytes) -> Record:
    data = msgspec.json.decode(line)
    if not isinstance(data, dict):
        raise msgspec.ValidationError("Expected `object`")
    text = data.get("text", "")
    if data.get("role") in _ROLES:
        data["role"] = _ROLES[data["role"]]
    match data.get("what"):
        case "decided" if text == "busy; the line is said again":
            data.update(what="repeated", text="")
        case "decided" if isinstance(text, str) and text.startswith("awaited: "):
            data.update(what="awaited", text=text.removeprefix("awaited: "))
        case "decided":
            data["what"] = "log"
        case "step":
            data["searching"] = text in _SEARCHES
        case "started" if isinstance(text, str):
            data.update(text="", how=text.rpartition("by a ")[2])
        case "judged" if isinstance(text, str) and (found := _JUDGED.fullmatch(text)):
            data.update(text="", name=found[1], outcome=found[2], note=found[3] or "")
    return msgspec.convert(data, Record)


# -- a trace as exchanges -------------------------------------------------------------------------------------------------


def recorded(path: Path, records: Iterable[Record] | None = None) -> Recorded:
    """A trace as exchanges: each line that was said, and all that was heard before the next. `records` are its own, unless they
    were read already."""
    found: list[RecordedExchange] = []
    current = RecordedExchange(None)
    first: Tuning | None = None
    tuning, began, end, form, searching = Tuning(), 0.0, "crlf", "lines", False
    layers: list[dict[str, Any]] = []
    for record in records or read_trace(path):
        searching = record.searching if record.what is What.STEP else searching
        form, layers = record.form or form, record.layers or layers
        if record.what is What.REPEATED:
            current.again = True
        elif record.what is What.AWAITED:
            _mark_awaited([*found, current], record.text)
        elif record.what in (What.OPENED, What.TUNED) and record.rate:
            try:
                tuning = Tuning.of(record.rate, record.frame or tuning.frame, record.station)
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
        elif record.what is What.HEARD and not _is_garbage(record):
            current.heard.append((max(0.0, record.at - began), record.content, str(record.role or "")))
    if current.said is not None or current.heard:
        found.append(current)
    try:
        around = msgspec.convert(layers, Layers)
    except msgspec.ValidationError as fault:
        raise FileFault(str(path), [Complaint(f"layers: {fault}")]) from None
    return Recorded(found, end, form, first or Tuning(), around)


def _is_garbage(record: Record) -> bool:
    """Whether a record is only what a wrong rate on our side made of something."""
    return record.role in (Role.UNMATCHED, Role.CORRUPT) and garbled(record.content)


def _mark_awaited(exchanges: list[RecordedExchange], awaited: str) -> None:
    """Marks the latest unmatched line of this text as an event: the session was waiting for it."""
    for exchange in reversed(exchanges):
        for index, (at, text, role) in enumerate(exchange.heard):
            if text == awaited and role == Role.UNMATCHED:
                exchange.heard[index] = (at, text, str(Role.EVENT))
                return
