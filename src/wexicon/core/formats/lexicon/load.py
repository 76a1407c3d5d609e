"""Whether what a module sends by itself fits its rate.

The rule: it is checked before anything is written, and the message has the sum.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

from wexicon.core.durations import seconds
from wexicon.core.formats.lexicon.model import Lexicon
from wexicon.core.values import Value


class Load(msgspec.Struct, frozen=True):
    """How much a module sends by itself: bits a second on the wire, the sum in words, and the rate that it has (baud)."""

    bits: float
    sum: str
    rate: int

    @property
    def fits(self) -> bool:
        """Whether the rate can carry it."""
        return self.bits <= self.rate


def shaping(lexicon: Lexicon) -> list[str]:
    """The settings that decide how much a module sends by itself, and at which rate."""
    if lexicon.stream is None:
        return []
    moving = [name for name, one in lexicon.settings.items() if one.moves_link]
    own = (lexicon.stream.list, lexicon.stream.every, lexicon.stream.by)
    return [*(name for name in own if name), *moving]


def load_of(lexicon: Lexicon, values: Mapping[str, Value]) -> Load | None:
    """What these values make the module send, with the factory defaults of those that are not among them; None if the lexicon
    has no `[stream]`, or not all is known."""
    stream, settings = lexicon.stream, lexicon.settings
    if stream is None:
        return None
    known = {name: one.factory for name, one in settings.items() if one.factory is not None} | dict(values)
    listed, every = known.get(stream.list), known.get(stream.every)
    if listed is None or every is None:
        return None
    tuning = lexicon.factory
    for name, setting in settings.items():
        if name in known and setting.moves_link:
            tuning = setting.kind.apply_to(tuning, known[name])
    sizes = {
        part: stream.bytes.get(f"{part} {known.get(stream.by)}", stream.bytes.get(part))
        for part in re.findall(r"\w+", str(listed))
    }
    parts = {part: size for part, size in sizes.items() if size}
    try:
        pause = seconds(str(every))
    except ValueError:
        return None
    if not parts or pause <= 0:
        return None
    total = sum(parts.values())
    told = " + ".join(f"{part} {size}" for part, size in parts.items())
    bits = total / pause * tuning.char_bits
    return Load(bits, f"{told} = {total} bytes every {every} are {bits:,.0f} bit/s", tuning.rate)
