"""Whether a module started: decided here, for everybody.

The rule: a start is the whole text that a module sends when it listens, or a whole line that it sends as it starts and that
answers nothing. The name of an event is no sign: `+SCAN STARTED` is no start.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Heard, Observation, Role, Said, Tuned
from wexicon.core.protocol.patterns import Pattern


class Start(msgspec.Struct, frozen=True):
    """A module was seen to start: when (seconds, on the link's clock), and what it sent."""

    at: float
    text: str


def is_ready_text(ready: Pattern, text: str) -> bool:
    """Whether a line is the ready text. Bytes sent before at another rate may precede it on the same line."""
    whole = ready.source == ready.start
    return ready.match(text) is not None or (whole and text.endswith(ready.source))


def is_start_text(lexicon: Lexicon, text: str) -> bool:
    """Whether this whole line is what a module of this lexicon sends as it starts, or once it listens."""
    ready = lexicon.start.ready
    says = (one.strip() for one in lexicon.start.says)
    return text.strip() in says or (ready is not None and is_ready_text(ready, text))


class StartWatch:
    """Watches what a module of one of these lexicons sends; they are asked for when something comes."""

    def __init__(self, lexicons: Callable[[], Sequence[Lexicon]]) -> None:
        self._lexicons = lexicons
        # Whether what comes next may answer a line of ours.
        self._asked = False

    @cached_property
    def _ready(self) -> list[Pattern]:
        return [one.start.ready for one in self._lexicons() if one.start.ready is not None]

    @cached_property
    def _says(self) -> frozenset[str]:
        return frozenset(text.strip() for one in self._lexicons() for text in one.start.says)

    def note(self, seen: Observation) -> Start | None:
        """The start that this observation shows, if any."""
        if isinstance(seen, Said):
            self._asked = True
        elif isinstance(seen, Tuned):
            self._asked = False
        elif isinstance(seen, Heard) and seen.role is not Role.ECHO:
            asked, self._asked = self._asked, False
            text = seen.text
            if ready := next((one for one in self._ready if is_ready_text(one, text)), None):
                # Without what another rate has put in front of it.
                return Start(seen.at, text if ready.match(text) is not None else ready.source)
            if not asked and text.strip() in self._says:
                return Start(seen.at, text)
        return None
