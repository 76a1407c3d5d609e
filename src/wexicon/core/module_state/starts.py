"""Whether a module started: decided here, for everybody.

The rule: a start is the whole text that a module sends when it listens, or a whole line that it sends as it starts and that is
no answer of its data mode. The name of an event is no sign: `+SCAN STARTED` is no start.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property

import msgspec

from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.protocol.observations import Heard, Observation, Role, Said, Tuned
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import garbled


class Start(msgspec.Struct, frozen=True):
    """A module was seen to start: when (seconds, on the link's clock), and what it sent."""

    at: float
    text: str


def is_ready_text(ready: Pattern, text: str) -> bool:
    """Whether a line is the ready text. On the same line only the garbage of bytes sent at another rate may precede it."""
    if ready.match(text) is not None:
        return True
    whole = ready.source == ready.start and text.endswith(ready.source)
    return whole and garbled(text.removesuffix(ready.source))


def is_start_text(lexicon: Lexicon, text: str) -> bool:
    """Whether this whole line is what a module of this lexicon sends as it starts, or once it listens."""
    ready = lexicon.start.ready
    if text.strip() in (one.strip() for one in lexicon.start.says):
        return True
    return ready is not None and is_ready_text(ready, text)


class StartWatch:
    """Watches what a module of one of these lexicons sends; they are asked for when something comes."""

    def __init__(self, lexicons: Callable[[], Sequence[Lexicon]]) -> None:
        self._lexicons = lexicons
        # Whether what comes next may answer a line of ours.
        self._asked = False
        self._said = ""

    @cached_property
    def _ready(self) -> list[Pattern]:
        return [one.start.ready for one in self._lexicons() if one.start.ready is not None]

    @cached_property
    def _says(self) -> dict[str, bool]:
        """What modules send as they start; whether also in data mode, as the answer to any line."""
        return {
            text.strip(): one.attention.how is not AttentionBy.ALWAYS
            for one in self._lexicons()
            for text in one.start.says
        }

    def _without_echo(self, text: str) -> str:
        """A line without the part of our last line that was echoed in front of it."""
        found = (text[at:] for at in range(1, len(text)) if text[:at] == self._said[:at])
        return next((rest for rest in found if rest.strip() in self._says), text)

    def note(self, seen: Observation) -> Start | None:
        """The start that this observation shows, if any."""
        if isinstance(seen, Said):
            self._asked, self._said = True, seen.text
        elif isinstance(seen, Tuned):
            self._asked = False
        elif isinstance(seen, Heard) and seen.role is not Role.ECHO:
            asked, self._asked = self._asked, False
            text = self._without_echo(seen.text)
            if ready := next((one for one in self._ready if is_ready_text(one, text)), None):
                # Without what another rate has put in front of it.
                return Start(seen.at, text if ready.match(text) is not None else ready.source)
            in_data_too = self._says.get(text.strip())
            if in_data_too is False or (in_data_too and not asked):
                return Start(seen.at, text)
        return None
