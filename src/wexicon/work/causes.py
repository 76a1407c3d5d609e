"""What it points to when a module does not answer as it should, and what to do next.

The rule: a cause is only named when something that was heard, or not heard, points to it; that evidence is told with it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from wexicon.core.protocol.exchange import How
from wexicon.core.text import garbled, to_bytes, visible
from wexicon.core.tuning import Tuning


class Try(msgspec.Struct, frozen=True):
    """One attempt to be answered: how our side was tuned, what was said, how it ended, what was heard, and how
    many seconds that took."""

    tuning: Tuning
    end: str
    said: str
    how: How
    heard: tuple[str, ...]
    lasted: float = 0.0


class Cause(msgspec.Struct, frozen=True):
    """`kind` is silence, garbage, half, line-end, data-mode or answers; `next` is what to do."""

    kind: str
    what: str
    next: str


def point_to(tries: Sequence[Try], data_links: Iterable[Tuning] = (), start_texts: Iterable[bytes] = ()) -> Cause:
    """The cause that all attempts together point to. `data_links` are links on which the module may be in data mode;
    `start_texts` what it may send when it starts, by which garbage gives its rate away."""
    heard = [(one, text) for one in tries for text in one.heard if text]
    if not heard:
        ways = ", ".join(dict.fromkeys(f"{one.tuning}" for one in tries))
        return Cause(
            "silence",
            f"nothing at all was heard (tried {ways})",
            "Check that the module has power, that TX and RX are crossed and the grounds joined, "
            "and that what its attention needs (a held key, a pin) was done.",
        )
    plain = [(one, text) for one, text in heard if not garbled(text)]
    if plain:
        one, text = plain[-1]
        if one.tuning in tuple(data_links):
            return Cause(
                "data-mode",
                f"the module has power and is in data mode: at {one.tuning} it said “{visible(text)}”",
                "It was not brought to command mode: the key was not held while power was applied, or not long enough.",
            )
        if all(attempt.how is How.ERROR for attempt, _ in plain):
            return Cause(
                "line-end",
                f"every line was answered with an error: “{visible(text)}” at {one.tuning}",
                f"The line end may be wrong (sent: {one.end}), or this is a module of another family.",
            )
        return Cause(
            "answers",
            f"something answers at {one.tuning}, but not as expected: “{visible(text)}”",
            "This may be a module of another family, or another device on this port.",
        )
    one, text = heard[0]
    rate = None
    texts = list(start_texts)
    if texts:
        from wexicon.core.standards.waveform import true_rate

        rate = true_rate(to_bytes(text), one.tuning, texts, lasted=one.lasted or None)
    sounds = f"; it sounds like {rate} baud" if rate else ""
    return Cause(
        "garbage",
        f"garbage was heard at {one.tuning}{sounds}: “{visible(text[:40])}”",
        "The module has power and speaks at another rate. Where it has a key for command mode, the key was not held.",
    )
