"""The shape of a trace: the time-stamped record of one session on one link, JSON Lines, one record for each event.

The rule: everything that a program needs is in a field of its own; `text` is the data sent or received, or a sentence for
people. `at` is seconds since the session started; the first record has the format number and the wall time (UTC).
Format 1 (before 2026-11-26) had sentences instead of fields; `trace_reader` alone reads it. Format 2 lacks the record of how
the work ended.
"""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated, Any

import msgspec

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
from wexicon.core.protocol.speech import Layers
from wexicon.core.text import to_bytes, to_text, visible

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
    name: str = ""
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
    party: str = ""

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
