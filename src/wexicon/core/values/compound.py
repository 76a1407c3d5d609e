"""Several values written together, and what a value makes of the link.

The rule: each field is checked by its own kind.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from wexicon.core.tuning import Tuning
from wexicon.core.values.base import Kind, Value, ValueFault
from wexicon.core.values.coded import Choice, Flag, Frame, Rate
from wexicon.core.values.numbers import Int, Number, Timer
from wexicon.core.values.texts import Address, Digits, Hex, Text


class Tuple(Kind, frozen=True, tag="tuple"):
    """Several values written together. A single value given stands for the first field; a field that is not given has
    its `default`. Fields called rate, frame, bits, parity and stop say what becomes of the link."""

    fields: tuple[Field, ...]
    separator: str = ","

    def check(self, value: object) -> Value:
        given = value if isinstance(value, Mapping) else {self.fields[0].name: value}
        names = [field.name for field in self.fields]
        for name in given:
            if name not in names:
                raise self.fault(value, f"has no field {name}")
        checked: dict[str, Any] = {}
        for field in self.fields:
            part = given.get(field.name, field.default)
            if part is None:
                raise self.fault(value, f"lacks the field {field.name}")
            try:
                checked[field.name] = field.value.check(part)
            except ValueFault as fault:
                raise ValueFault(fault.value, f"as {field.name} {fault.why}", fault.allowed) from None
        return checked

    def encode(self, value: Value) -> str:
        assert isinstance(value, dict)
        return self.separator.join(field.value.encode(value[field.name]) for field in self.fields)

    def decode(self, text: str) -> Value:
        parts = text.split(self.separator)
        if len(parts) != len(self.fields):
            raise self.fault(text, f"has {len(parts)} fields")
        return {field.name: field.value.decode(part) for field, part in zip(self.fields, parts, strict=True)}

    def allowed(self) -> str:
        return "; ".join(f"{field.name}: {field.value.allowed()}" for field in self.fields)

    def show(self, value: Value) -> str:
        assert isinstance(value, dict)
        first, *others = self.fields
        # What is as it usually is goes without saying.
        parts = [
            f"{field.name} {field.value.show(value[field.name])}"
            for field in others
            if field.default is None or value[field.name] != field.value.check(field.default)
        ]
        return ", ".join([first.value.show(value[first.name]), *parts])


AnyKind = Text | Digits | Int | Number | Timer | Choice | Flag | Rate | Frame | Address | Hex | Tuple


class Field(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One field of a tuple."""

    name: str
    value: AnyKind
    default: str | int | float | bool | None = None


def known_rates(kind: AnyKind) -> tuple[int, ...]:
    """The rates that a setting of this kind can give the link."""
    if isinstance(kind, Rate):
        return kind.known()
    if isinstance(kind, Tuple):
        return tuple(rate for field in kind.fields for rate in known_rates(field.value))
    return ()


def known_frames(kind: AnyKind) -> list[str]:
    """The frames that a setting of this kind can give the link."""
    if isinstance(kind, Frame):
        return list(kind.codes)
    if not isinstance(kind, Tuple):
        return []
    found = ["8N1"]
    for field in kind.fields:
        if field.name == "parity" and isinstance(field.value, Choice):
            found += [f"{frame[0]}{name[:1].upper()}{frame[2]}" for frame in found[:1] for name in field.value.codes]
        elif field.name == "stop":
            found += [f"{frame[:2]}2" for frame in list(found)]
    return list(dict.fromkeys(found))


def retuned(tuning: Tuning, kind: AnyKind, value: Value, name: str = "") -> Tuning:
    """`tuning` as it becomes when a setting of this kind takes the value: its rate, its frame, or several of them."""
    if isinstance(kind, Rate):
        return msgspec.structs.replace(tuning, rate=int(str(value)))
    if isinstance(kind, Frame):
        return Tuning.of(tuning.rate, str(value))
    if isinstance(kind, Tuple):
        assert isinstance(value, dict)
        for field in kind.fields:
            tuning = retuned(tuning, field.value, value[field.name], field.name)
    elif name == "parity":
        return msgspec.structs.replace(tuning, parity=str(value)[:1].upper())
    elif name in ("stop", "bits"):
        return msgspec.structs.replace(tuning, **{name: int(str(value))})
    return tuning
