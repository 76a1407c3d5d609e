"""What all kinds of values share: a plain form, a check, and a way to the module's words and back.

The rule: `check` makes any value from a file or a call into the one plain form that is compared everywhere;
`encode` and `decode` go from that form to the module's words and back, and lose nothing. A fault names the value, what is
wrong with it, and what is allowed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

import msgspec

from wexicon.core.tuning import Tuning


class Unset:
    """The value of a setting that is not set at all."""

    __slots__ = ()

    def __repr__(self) -> str:
        return "unset"


UNSET = Unset()
# Why a value is not allowed, where it is a number beyond the limits of its setting.
OUT_OF_RANGE = "is out of range"
Value = str | int | bool | Decimal | dict[str, object] | list[object] | Unset
# Makes a kind of what is in a file at a place; None where it is none, which was complained of.
MakeKind = Callable[[Any, tuple[str, ...]], "Kind | None"]


class ValueFault(ValueError):
    """A value that is not allowed. `why` says what is wrong with it, `allowed` what would be right."""

    def __init__(self, value: object, why: str, allowed: str) -> None:
        super().__init__(f"{value!r} {why}; allowed: {allowed}")
        self.value = value
        self.why = why
        self.allowed = allowed


class Kind(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag_field="kind"):
    """What all kinds offer. `Value` is the plain form: str, int, bool, Decimal or, for tuples, a dict."""

    def faults(self) -> Iterator[tuple[str, str]]:
        """What is wrong with the kind itself, as it is in a lexicon: key and what."""
        yield from ()

    def with_parts(self, make: MakeKind) -> Kind:
        """The same with the kinds inside it made of what is in the file."""
        return self

    @property
    def free(self) -> bool:
        """Whether the module's words for a value hold text as a person gave it, which might hold anything."""
        return False

    def rates(self) -> tuple[int, ...]:
        """The rates (baud) that a setting of this kind can give the link."""
        return ()

    def frames(self) -> list[str]:
        """The frames that a setting of this kind can give the link."""
        return []

    def apply_to(self, tuning: Tuning, value: Value) -> Tuning:
        """The link's rate and frame as they become when a setting of this kind takes the value."""
        return tuning

    def from_link(self, tuning: Tuning) -> Value | None:
        """The value that the link's rate and frame tell; None where they tell nothing of it."""
        return None

    def check(self, value: object) -> Value:
        """The plain form of `value`; raises ValueFault where it is not allowed."""
        raise NotImplementedError

    def encode(self, value: Value) -> str:
        """The plain form in the module's words."""
        return str(value)

    def decode(self, text: str) -> Value:
        """The module's words in the plain form; raises ValueFault where they cannot be understood."""
        return self.check(text)

    def others(self, value: Value) -> Iterator[object]:
        """Values beside this one, of which some may not be allowed; none if the kind knows none."""
        yield from ()

    def another(self, value: Value, fits: Callable[[Value], bool] = lambda other: True) -> Value | None:
        """An allowed value that is not this one, and that `fits`; None if none is known."""
        for other in self.others(value):
            try:
                found = self.check(other)
            except ValueFault:
                continue
            if found != value and fits(found):
                return found
        return None

    def typed(self, text: str) -> Value:
        """The plain form of a value as a person types it, or as `show` writes it; raises ValueFault."""
        unit = str(getattr(self, "unit", ""))
        return self.check(text.strip().removesuffix(unit).rstrip() if unit else text)

    def allowed(self) -> str:
        """What is allowed, in words."""
        raise NotImplementedError

    def show(self, value: Value) -> str:
        """The plain form as a person reads it, with its unit."""
        return str(value)

    def fault(self, value: object, why: str) -> ValueFault:
        return ValueFault(value, why, self.allowed())


def whole(value: object) -> int | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, int):
        return value
    if isinstance(value, str) and re.fullmatch(r" *[+-]?[0-9]{1,20} *", value):
        return int(value)
    return None
