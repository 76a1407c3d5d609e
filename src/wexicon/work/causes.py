"""What it points to when a module does not answer as it should, and what to do next.

The rule: a cause is only named when something that was heard, or not heard, points to it; that evidence is told with it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from wexicon.core.durations import spoken
from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.protocol.exchange import How
from wexicon.core.text import garbled, to_bytes, visible
from wexicon.core.tuning import Tuning

SHOWN = 60


class Try(msgspec.Struct, frozen=True):
    """One attempt to be answered: how our side was tuned, what was said, how it ended, what was heard, how many seconds
    that took, whether our own line came back."""

    tuning: Tuning
    end: str
    said: str
    how: How
    heard: tuple[str, ...]
    lasted: float = 0.0
    echoed: bool = False


class Cause(msgspec.Struct, frozen=True):
    """`kind` is silence, garbage, echo, line-end, command-rate, data-mode, busy-line or answers; `next` is what to do."""

    kind: str
    what: str
    next: str


def intelligible(text: str) -> bool:
    """Whether somebody may have said this: a few characters of garbage often look like letters."""
    return len(text.strip()) > 2 and text.isascii() and not garbled(text) and sum(map(str.isalnum, text)) > 1


def makes_sense(lexicon: Lexicon, heard: Iterable[str]) -> bool:
    """Whether something among this is a word of the family, or of somebody's. Bytes only make sense as the family's."""
    of_bytes = lexicon.dialect.form == "bytes"
    return any(_is_own(lexicon, text) or (not of_bytes and intelligible(text)) for text in heard)


def point_to(tries: Sequence[Try], lexicon: Lexicon, data_links: Iterable[Tuning] = ()) -> Cause:
    """The cause that all attempts together point to. `data_links` are links on which the module may be in data mode."""
    plain = [(one, text) for one in tries for text in one.heard if makes_sense(lexicon, [text])]
    own = [(one, text) for one, text in plain if _is_own(lexicon, text)]
    if own:
        return _own_words(own, tries, lexicon, data_links)
    if plain:
        one, text = plain[-1]
        passed = " Or the module is in data mode, and what is joined to it answers: then its key was not held."
        return Cause(
            "answers",
            f"something answers at {one.tuning}, and not in the words of {lexicon.about.family}: “{_short(text)}”",
            "This is probably a module of another family, or another device on this port."
            + passed * (one.tuning in tuple(data_links)),
        )
    echoes = [one for one in tries if one.echoed]
    if echoes:
        ends = ", ".join(dict.fromkeys(one.end for one in echoes))
        return Cause(
            "echo",
            f"our own lines come back at {echoes[-1].tuning}, and nothing else (line ends tried: {ends})",
            "Either TX and RX are joined, or the module passes everything through as data, or it wants a line end or a "
            "question that the lexicon does not have.",
        )
    heard = [(one, text) for one in tries for text in one.heard if text]
    return _garbage(heard, lexicon) if heard else _silence(tries, lexicon)


def _is_own(lexicon: Lexicon, text: str) -> bool:
    """Whether these are words of the family: a result code, an event, what it says when it starts, its escape's answer."""
    dialect, attention = lexicon.dialect, lexicon.attention
    patterns = [want.pattern for want in (*attention.answer.wants, *attention.probe.expect.wants)]
    return (
        dialect.final(text) is not None
        or dialect.event(text) is not None
        or any(word in text for word in lexicon.start.says)
        or any(pattern.start and pattern.match(text) is not None for pattern in patterns)
    )


def _own_words(
    own: Sequence[tuple[Try, str]], tries: Sequence[Try], lexicon: Lexicon, data_links: Iterable[Tuning]
) -> Cause:
    one, text = own[-1]
    command = lexicon.attention.tuning
    if command and one.tuning != command and (one.how is How.OK or lexicon.dialect.final(text) is not None):
        return Cause(
            "command-rate",
            f"the module answers in its own words at {one.tuning}: “{_short(text)}”",
            f"It is in command mode, at this rate and not at {command} as the lexicon says: change attention.rate.",
        )
    if one.tuning in tuple(data_links) and one.tuning != command:
        return _data_mode(one, text)
    answered = [attempt for attempt in tries if attempt.tuning == one.tuning]
    ends = ", ".join(dict.fromkeys(attempt.end for attempt in answered))
    return Cause(
        "line-end",
        f"a module of this family is at {one.tuning} (it said “{_short(text)}”), and does not answer "
        f"“{visible(lexicon.attention.probe.say.source)}” (line ends tried: {ends})",
        "Look up in the datasheet how a line ends, and whether this question is one that it answers at any time.",
    )


def _data_mode(one: Try, text: str) -> Cause:
    return Cause(
        "data-mode",
        f"the module has power and is in data mode: at {one.tuning} it said “{_short(text)}”",
        "It was not brought to command mode: the key was not held while power was applied, or not long enough.",
    )


def _garbage(heard: Sequence[tuple[Try, str]], lexicon: Lexicon) -> Cause:
    one, text = max(heard, key=lambda pair: len(pair[1]))
    texts = lexicon.start_texts()
    rate = None
    if texts:
        from wexicon.core.standards.waveform import true_rate

        rate = true_rate(to_bytes(text), one.tuning, texts, lasted=one.lasted or None)
    sounds = f"; it sounds like {rate} baud" if rate else ""
    keyed = " Or its key for command mode was not held." if lexicon.attention.how is AttentionBy.HELD_KEY else ""
    return Cause(
        "garbage",
        f"garbage was heard at {one.tuning}{sounds}: “{_short(text)}”",
        f"The module has power and speaks at another rate, which the lexicon does not name.{keyed}",
    )


def _silence(tries: Sequence[Try], lexicon: Lexicon) -> Cause:
    ways = list(dict.fromkeys(f"{one.tuning}" for one in tries))
    told = ", ".join(ways[:8]) + (f" and {len(ways) - 8} more" if len(ways) > 8 else "")
    attention = lexicon.attention
    needs = {
        AttentionBy.ALWAYS: "that nothing else must be done before it listens",
        AttentionBy.HELD_KEY: "that its key was held as the operator was told",
        AttentionBy.CONTROL_LINE: f"that its pins stand as they should ({_pins(attention.pins)})",
        AttentionBy.ESCAPE: f"that “{visible(attention.escape)}” is its escape"
        + (f" and {spoken(attention.guard)} of silence around it are enough" if attention.guard else "")
        + (f", which is heard in the first {spoken(attention.window)} after power-up only" if attention.window else ""),
    }[attention.how]
    return Cause(
        "silence",
        f"nothing at all was heard (tried {told})",
        f"Check that the module has power, that TX and RX are crossed and the grounds joined, and {needs}.",
    )


def _pins(pins: dict[str, bool]) -> str:
    return ", ".join(f"{name} {'on' if on else 'off'}" for name, on in pins.items())


def _short(text: str) -> str:
    return visible(text if len(text) <= SHOWN else f"{text[:SHOWN]}...")
