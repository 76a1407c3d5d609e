"""A lexicon that extends another: all of the other's but for what it does without, and its own before that; and whether what a
module sends by itself fits its rate.

The rule: tables are put together key by key; a value kind is taken whole, never mixed. The load of a rate is checked before
anything is written, and the message has the calculation.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon.model import Lexicon
from wexicon.core.formats.toml import Source
from wexicon.core.text import meant, seconds
from wexicon.core.values import Value


def nothing_to_extend(name: str) -> bytes:
    """For a lexicon that stands alone."""
    raise Fault(f"there is no lexicon {name}")


def extend(source: Source, find: Callable[[str], bytes]) -> None:
    """Puts the data below the source's own what the lexicons that it extends have."""
    seen = [source.path]
    left_out: list[str] = []
    known: list[str] = []
    name = source.data.get("extends")
    while name:
        if not isinstance(name, str) or name in seen or len(seen) > 8:
            source.complain(("extends",), f"{name!r} cannot be extended", "a lexicon extends another by its name")
            break
        seen.append(name)
        try:
            below = Source(find(name), name).data
        except Fault as fault:
            source.complain(("extends",), fault.what.splitlines()[0], fault.hint)
            break
        name = below.pop("extends", "")
        without = source.data.pop("without", [])
        left_out += map(str, without if isinstance(without, list) else [without])
        known += _paths(below)
        # What is not there may come from further down.
        left_out = [path for path in left_out if not _taken_away(below, path)]
        source.data = _merged(below, source.data)
    for path in left_out:
        source.complain(("without",), f"there is no {path} to do without", meant(path, known))
    source.finish()


def _taken_away(below: dict[str, object], path: str) -> bool:
    """Takes something away from a lexicon that another does without; false where it is not there."""
    table, _, name = path.partition(".")
    found = below.get(table)
    if not isinstance(found, dict) or name not in found:
        return False
    del found[name]
    return True


def _paths(data: dict[str, object]) -> list[str]:
    return [f"{table}.{name}" for table, found in data.items() if isinstance(found, dict) for name in found]


def _merged(below: Mapping[str, object], above: Mapping[str, object], depth: int = 0) -> dict[str, object]:
    """Both together; what is above goes before. Below the table of a setting nothing is mixed but whole keys."""
    merged = dict(below)
    for key, value in above.items():
        under = merged.get(key)
        if depth < 3 and key != "value" and isinstance(value, dict) and isinstance(under, dict):
            merged[key] = _merged(under, value, depth + 1)
        else:
            merged[key] = value
    return merged


class Load(msgspec.Struct, frozen=True):
    """How much a module sends by itself: bits a second on the wire, how that was calculated, and its rate (baud)."""

    bits: float
    calculation: str
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
