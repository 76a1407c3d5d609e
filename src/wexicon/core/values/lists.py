"""Values that are lists, and a clock that is set from ours.

The rule: a list is compared item by item, in its order only if that counts; a clock is compared with ours when it is read.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from msgspec import structs

from wexicon.core.durations import seconds, spoken
from wexicon.core.values.base import Kind, MakeKind, Value

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


class Clock(Kind, frozen=True, tag="clock"):
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
