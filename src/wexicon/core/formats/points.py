"""The points of a sweep: all combinations of some values of some settings.

The rule: a point is checked before anything is written: each setting can be read, written and put back without a restart.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import product

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon, Moves, Setting
from wexicon.core.text import meant
from wexicon.core.values import Value, ValueFault

# How many points a sweep may have.
MOST_POINTS = 500

Points = list[dict[str, Value]]


def points_of(text: str, lexicon: Lexicon) -> Points:
    """The points of a sweep such as `spreading=7..12,power=2,8,14`, in the order of its names. Raises CallFault."""
    axes: dict[str, list[str]] = {}
    name = ""
    for part in text.split(","):
        head, equals, value = part.partition("=")
        if equals:
            name, part = head.strip(), value
            axes[name] = []
        if name not in axes:
            raise CallFault(
                f"{part!r} belongs to no setting", hint="Write NAME=VALUES, such as spreading=7..12,power=2,14."
            )
        axes[name] += _values(part.strip())
    return points_over(axes, lexicon)


def points_over(axes: Mapping[str, Sequence[object]], lexicon: Lexicon) -> Points:
    """All combinations of these values of a lexicon's settings. Raises CallFault."""
    typed: dict[str, list[Value]] = {}
    for name, values in axes.items():
        setting = lexicon.settings.get(name)
        if setting is None:
            raise CallFault(f"{lexicon.about.family} has no setting {name}", hint=meant(name, lexicon.settings))
        if why := _unswept(setting, lexicon):
            raise CallFault(f"{name} cannot be swept: {why}")
        try:
            typed[name] = [setting.typed(one) if isinstance(one, str) else setting.check(one) for one in values]
        except ValueFault as fault:
            raise CallFault(f"{name}: {fault.value!r} {fault.why}", hint=f"Allowed: {fault.allowed}") from None
    made = [dict(zip(typed, values, strict=True)) for values in product(*typed.values())]
    if len(made) > MOST_POINTS:
        raise CallFault(f"the sweep has {len(made)} points, more than {MOST_POINTS}")
    return made


def _unswept(setting: Setting, lexicon: Lexicon) -> str:
    """Why a setting cannot be swept; empty if it can."""
    if not setting.readable or not setting.writable:
        return "it must be readable and writable"
    if setting.secret:
        return "it is a secret"
    if setting.moves_link in (Moves.SAVE, Moves.RESTART) or any(lexicon.actions[one].restarts for one in setting.then):
        return "it takes effect after a save or a restart, and what is swept is not saved"
    return ""


def _values(text: str) -> Iterator[str]:
    """The values of a range such as 7..12, or one value."""
    first, dots, last = text.partition("..")
    if not dots:
        yield text
        return
    if not (first.isdecimal() and last.isdecimal() and int(first) <= int(last) <= int(first) + MOST_POINTS):
        raise CallFault(f"{text!r} is not a range such as 7..12")
    yield from map(str, range(int(first), int(last) + 1))
