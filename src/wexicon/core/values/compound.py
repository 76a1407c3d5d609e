"""Several values written together.

The rule: each field is checked by its own kind; fields called rate, frame, bits, parity and stop tell what becomes of the link.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from wexicon.core.tuning import Tuning
from wexicon.core.values.base import Kind, MakeKind, Value, ValueFault
from wexicon.core.values.coded import Choice


class Tuple(Kind, frozen=True, tag="tuple"):
    """Several values written together. A single value given stands for the first field; a field that is not given has
    its `default`. Fields called rate, frame, bits, parity and stop say what becomes of the link."""

    fields: tuple[Field, ...]
    separator: str = ","

    def with_parts(self, make: MakeKind) -> Tuple:
        made = [(field, make(field.value, ("fields", field.name, "value"))) for field in self.fields]
        fields = tuple(msgspec.structs.replace(field, value=kind) for field, kind in made if kind)
        return msgspec.structs.replace(self, fields=fields)

    def faults(self) -> Iterator[tuple[str, str]]:
        if not self.fields:
            yield "fields", "there is no field"
        if not self.separator:
            yield "separator", "is empty: fields would run into each other"
        for field in self.fields:
            if field.default is not None and isinstance(field.value, Kind):
                try:
                    field.value.check(field.default)
                except ValueFault as fault:
                    yield "fields", f"the default of {field.name}: {fault}"

    @property
    def free(self) -> bool:
        return any(field.value.free for field in self.fields)

    def rates(self) -> tuple[int, ...]:
        return tuple(rate for field in self.fields for rate in field.value.rates())

    def frames(self) -> list[str]:
        found = ["8N1"]
        for field in self.fields:
            if field.name == "parity" and isinstance(field.value, Choice):
                found += [f"{one[0]}{name[:1].upper()}{one[2]}" for one in found[:1] for name in field.value.codes]
            elif field.name == "stop":
                found += [f"{one[:2]}2" for one in list(found)]
        return list(dict.fromkeys(found)) if self.rates() else []

    def apply_to(self, tuning: Tuning, value: Value) -> Tuning:
        assert isinstance(value, dict)
        for field in self.fields:
            given = value[field.name]
            if field.name == "parity":
                tuning = msgspec.structs.replace(tuning, parity=str(given)[:1].upper())
            elif field.name in ("stop", "bits"):
                tuning = msgspec.structs.replace(tuning, **{field.name: int(str(given))})
            else:
                tuning = field.value.apply_to(tuning, given)
        return tuning

    def check(self, value: object) -> Value:
        given = value if isinstance(value, Mapping) else {self.fields[0].name: value}
        names = [field.name for field in self.fields]
        for name in given:
            if name not in names:
                raise self.fault(value, f"has no field {name}")
        checked: dict[str, object] = {}
        for field in self.fields:
            part = given.get(field.name, field.default)
            if part is None:
                raise self.fault(value, f"lacks the field {field.name}")
            try:
                checked[field.name] = field.value.check(part)
            except ValueFault as fault:
                raise ValueFault(fault.value, f"as {field.name} {fault.why}", fault.allowed) from None
            if field.value.free and self.separator in field.value.encode(checked[field.name]):
                raise ValueFault(
                    part, f"as {field.name} holds “{self.separator}”, which parts the fields", self.allowed()
                )
        return checked

    def encode(self, value: Value) -> str:
        assert isinstance(value, dict)
        return self.separator.join(field.value.encode(value[field.name]) for field in self.fields)

    def decode(self, text: str) -> Value:
        parts = text.split(self.separator)
        if len(parts) != len(self.fields):
            raise self.fault(text, f"has {len(parts)} fields")
        return {field.name: field.value.decode(part) for field, part in zip(self.fields, parts, strict=True)}

    def typed(self, text: str) -> Value:
        """As `show` writes it: the first field's value, then the others that are not as usual, each behind its name."""
        names = [field.name for field in self.fields]
        given: dict[str, str] = {}
        for part in text.split(","):
            name, _, rest = part.strip().partition(" ")
            known = name in names and rest
            given[name if known else names[len(given)] if len(given) < len(names) else part] = (
                rest if known else part.strip()
            )
        kinds = {field.name: field.value for field in self.fields}
        return self.check({name: kinds[name].typed(part) if name in kinds else part for name, part in given.items()})

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


class Field(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One field of a tuple; `value` is its kind (a table in a file)."""

    name: str
    value: Any
    default: str | int | float | bool | None = None
