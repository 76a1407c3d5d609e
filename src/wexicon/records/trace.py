"""The trace: the time-stamped record of one session on one link, JSON Lines, one record for each thing that happened.

The rule: whatever is written has no secret in it, and can be read again record by record in constant memory. `at` is
monotonic seconds since the session began, `wall` the UTC time that belongs to it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec

from wexicon import __version__
from wexicon.core.faults import CallFault, Complaint, FileFault
from wexicon.core.protocol.link import Clock
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.session import HIDDEN
from wexicon.core.text import to_bytes, to_text, visible
from wexicon.core.tuning import Tuning
from wexicon.work.causes import garbled

_FLUSH_EVERY = 0.25


class Record(msgspec.Struct, omit_defaults=True):
    """One line of a trace. `what` is opened, said, heard, tuned, signalled, asked, decided or closed; the other fields are
    there where they mean something."""

    at: float
    wall: datetime
    what: str
    text: str = ""
    hex: str = ""
    role: str = ""
    exact: bool = False
    link: str = ""
    rate: int = 0
    frame: str = ""
    end: str = ""
    act: str = ""
    dtr: bool | None = None
    rts: bool | None = None
    wexicon: str = ""

    @property
    def content(self) -> str:
        """What was said or heard, whichever way it is written."""
        return to_text(bytes.fromhex(self.hex)) if self.hex else self.text


class TraceWriter:
    """Writes one trace; what may not be shown is taken out of every text before it is written."""

    def __init__(
        self,
        path: Path,
        clock: Clock,
        *,
        link: str,
        tuning: Tuning,
        end: str = "crlf",
        secrets: Iterable[str] = (),
        live: Callable[[Record], None] | None = None,
    ) -> None:
        self.path = path
        self._clock = clock
        self._live = live
        self._began = self._flushed = clock.now()
        self._secrets = sorted({secret for secret in secrets if secret}, key=len, reverse=True)
        self._encode = msgspec.json.Encoder().encode
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file = path.open("wb")
        self.record(
            self._began, "opened", link=link, rate=tuning.rate, frame=tuning.frame, end=end, wexicon=__version__
        )

    def record(self, at: float, what: str, **fields: Any) -> None:
        """Writes one record."""
        if self._file.closed:
            return
        text = fields.get("text")
        if text:
            for secret in self._secrets:
                if secret in text:
                    text = text.replace(secret, HIDDEN)
            fields["text"] = text
            if not text.isascii() and (data := to_bytes(text)) != text.encode("utf-8", "replace"):
                # JSON has no bytes: what is no UTF-8 is written in hexadecimal instead.
                fields["text"], fields["hex"] = "", data.hex()
        record = Record(round(at - self._began, 6), self._clock.wall(at), what, **fields)
        self._file.write(self._encode(record) + b"\n")
        if self._live:
            self._live(record)
        if at - self._flushed > _FLUSH_EVERY:
            self._flushed = at
            self._file.flush()

    def close(self) -> None:
        """Ends the trace."""
        if not self._file.closed:
            self.record(self._clock.now(), "closed")
            self._file.close()


def read_trace(path: Path) -> Iterator[Record]:
    """The records of a trace, one after the other. Raises FileFault at the first line that is none."""
    decode = msgspec.json.Decoder(Record).decode
    try:
        with path.open("rb") as file:
            for number, line in enumerate(file, 1):
                try:
                    yield decode(line)
                except (msgspec.DecodeError, UnicodeDecodeError) as fault:
                    hint = "a trace is JSON Lines, one record a line, as wexicon writes it"
                    source = visible(line[:100].rstrip(b"\n"))
                    raise FileFault(
                        str(path), [Complaint(f"no trace record: {fault}", "", number, 0, source, hint)]
                    ) from None
    except OSError as fault:
        raise CallFault(f"cannot be read: {fault.strerror}", where=str(path)) from None


def recorded(path: Path) -> Recorded:
    """A trace as exchanges: what was said, and all that came until something else was said."""
    found: list[RecordedExchange] = []
    current = RecordedExchange(None)
    tuning, began, end = Tuning(), 0.0, "crlf"
    for record in read_trace(path):
        if record.what in ("opened", "tuned") and record.rate:
            try:
                tuning = Tuning.of(record.rate, record.frame or tuning.frame)
            except ValueError as fault:
                raise FileFault(str(path), [Complaint(str(fault))]) from None
            end = record.end or end
            if not found and current.said is None and not current.heard:
                current.tuning = tuning
        elif record.what == "said":
            if current.said is not None or current.heard:
                current.lasted = max(0.0, record.at - began)
                found.append(current)
            current = RecordedExchange(record.content, record.exact, tuning)
            began = record.at
        elif record.what == "heard" and not (record.role in ("aside", "broken") and garbled(record.content)):
            # Garbage is what our own wrong rate made of something; nobody said it.
            current.heard.append((max(0.0, record.at - began), record.content, record.role))
    if current.said is not None or current.heard:
        found.append(current)
    return Recorded(found, end)
