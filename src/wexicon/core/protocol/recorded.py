"""A recorded session as exchanges: the shape that a trace is read into, to be run or replayed.

The rule: times are seconds since the line began to be said; texts are as they were heard, without line ends.
"""

from __future__ import annotations

import msgspec

from wexicon.core.protocol.speech import Layers
from wexicon.core.tuning import Tuning


class RecordedExchange(msgspec.Struct):
    """One thing said (None: before anything was), and the frames heard after it: seconds, text, role. `lasted` is how
    long it was until something else was said; `searching` where that was said to find the module, `again` where
    it was said again after this."""

    said: str | None
    exact: bool = False
    tuning: Tuning = msgspec.field(default_factory=Tuning)
    lasted: float = 0.0
    heard: list[tuple[float, str, str]] = msgspec.field(default_factory=list)
    searching: bool = False
    again: bool = False


class Recorded(msgspec.Struct):
    """All exchanges of a session; `end` is the line end that our lines had (none, cr, lf, crlf), `form` how answers were
    cut and `layers` what was around them (as `answer` and `layers` in a lexicon's speech), `tuning` how our side began."""

    exchanges: list[RecordedExchange]
    end: str = "crlf"
    form: str = "lines"
    tuning: Tuning = msgspec.field(default_factory=Tuning)
    layers: Layers = ()
