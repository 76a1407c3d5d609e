"""Several values written together, lists, and a clock that is set from ours.

The rule: each field is checked by its own kind; fields called rate, frame, bits, parity and stop determine the link. A list is
compared item by item, in its order only if that counts; a clock is compared with ours when it is read.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec
from msgspec import structs

from wexicon.core.text import seconds, spoken
from wexicon.core.tuning import Tuning
from wexicon.core.values.base import Kind, MakeKind, Value, ValueFault
from wexicon.core.values.coded import ChoiceKind


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
            if field.name == "parity" and isinstance(field.value, ChoiceKind):
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


# What a sheet writes for a list that must hold some items, whatever else it holds.
HAS = "has"
NOW = "now"


class List(Kind, frozen=True, tag="list"):
    """Several values of one kind, `of`: `max` at most. `ordered`: their order counts. Where one answer holds them all, they are
    parted by `separator`; `json` is an array. A sheet gives the whole list, or `{ has = [...] }` for what must be in it."""

    of: Any
    max: int = 64
    ordered: bool = False
    separator: str = ","

    def with_parts(self, make: MakeKind) -> List:
        made = make(self.of, ("of",))
        return structs.replace(self, of=made) if made else self

    def faults(self) -> Iterator[tuple[str, str]]:
        if not isinstance(self.of, Kind):
            yield "of", "is not a kind of value"
        if not 1 <= self.max <= 10_000:
            yield "max", f"{self.max} is not a number of items from 1 to 10000"
        if not self.separator:
            yield "separator", "is empty: items would run into each other"

    @property
    def free(self) -> bool:
        # An array of JSON quotes what its items hold.
        return self.separator != "json" and bool(self.of.free)

    def check(self, value: object) -> Value:
        if isinstance(value, Mapping):
            if list(value) != [HAS]:
                raise self.fault(dict(value), "is not a list")
            return {HAS: self._checked(value[HAS])}
        return self._checked(value)

    def _checked(self, value: object) -> list[object]:
        if not isinstance(value, (list, tuple)):
            raise self.fault(value, "is not a list")
        if len(value) > self.max:
            raise self.fault(value, f"has {len(value)} items")
        made = [self.of.check(item) for item in value]
        if not self.ordered and len({self.of.encode(item) for item in made}) < len(made):
            raise self.fault(value, "holds an item twice")
        return made

    def encode(self, value: Value) -> str:
        items = [self.of.encode(item) for item in self.items(value)]
        return json.dumps(items, ensure_ascii=False) if self.separator == "json" else self.separator.join(items)

    def decode(self, text: str) -> Value:
        if self.separator != "json":
            return self.of_items([part.strip() for part in text.split(self.separator)] if text.strip() else [])
        try:
            made = json.loads(text)
        except ValueError:
            made = None
        if not isinstance(made, list):
            raise self.fault(text, "is not an array of JSON")
        return self.of_items([one if isinstance(one, str) else json.dumps(one) for one in made])

    def of_items(self, texts: list[str]) -> Value:
        """The list of items in the module's words. Raises ValueFault."""
        return [self.of.decode(text) for text in texts]

    def items(self, value: Value) -> list[Any]:
        """The items of a list, or those that must be in it."""
        found: Any = value[HAS] if isinstance(value, dict) else value
        return list(found)

    def fits(self, found: Value, wanted: Value) -> bool:
        """Whether a list that was read is what was wanted."""
        have, want = ([self.of.encode(item) for item in self.items(one)] for one in (found, wanted))
        if isinstance(wanted, dict):
            return set(want) <= set(have)
        return have == want if self.ordered else sorted(have) == sorted(want)

    def typed(self, text: str) -> Value:
        text = text.strip()
        return [self.of.typed(part.strip()) for part in text.split(",")] if text and text != "none" else []

    def allowed(self) -> str:
        return f"a list of up to {self.max} values, each {self.of.allowed()}"

    def show(self, value: Value) -> str:
        shown = ", ".join(self.of.show(item) for item in self.items(value)) or "none"
        return f"at least {shown}" if isinstance(value, dict) else shown


class ClockKind(Kind, frozen=True, tag="clock"):
    """A clock that is set from ours and runs on. `form` is how the module writes time, as strftime has it (ISO/IEC 9899:2018,
    7.27.3.5); in UTC, or with `local` in the time of this machine. A sheet says `now`; it is right if it differs by `within`
    at most."""

    form: str = "%Y-%m-%dT%H:%M:%S"
    local: bool = False
    within: str = "2s"

    def faults(self) -> Iterator[tuple[str, str]]:
        try:
            if seconds(self.within) <= 0:
                yield "within", f"{self.within} is not above 0"
        except ValueError as fault:
            yield "within", str(fault)
        try:
            moment = datetime(2026, 11, 27, 10, 20, 30)
            whole = datetime.strptime(moment.strftime(self.form), self.form) == moment
        except ValueError:
            whole = False
        if not whole:
            yield "form", f"{self.form!r} does not tell date and time"

    def check(self, value: object) -> Value:
        if value != NOW:
            raise self.fault(value, "is not a clock's value")
        return NOW

    def written(self, now: datetime) -> str:
        """A moment (UTC) as the module writes it."""
        return (now.astimezone() if self.local else now).strftime(self.form)

    def compared(self, text: str, now: datetime) -> Value:
        """`now`, or by how much the module's clock is wrong at this moment (UTC). Raises ValueFault."""
        try:
            told = datetime.strptime(text.strip(), self.form)
        except ValueError:
            raise self.fault(text, f"is not a time of the form {self.form}") from None
        if told.tzinfo is None:
            told = told.astimezone() if self.local else told.replace(tzinfo=UTC)
        off = told - now
        if abs(off) <= timedelta(seconds=seconds(self.within)):
            return NOW
        size = round(abs(off.total_seconds()))
        return f"{spoken(float(size)) if size >= 60 else f'{size} s'} {'slow' if off < timedelta(0) else 'fast'}"

    def encode(self, value: Value) -> str:
        return str(value)

    def decode(self, text: str) -> Value:
        return text

    def allowed(self) -> str:
        return f"{NOW}: the time of this machine"
