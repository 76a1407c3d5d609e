"""Values that are numbers: whole, decimal with a unit and a scale, and the timers of a network.

The rule: numbers are exact; what lies between two steps, or is finer than the module can be told, is refused and never
rounded.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal, InvalidOperation
from math import isfinite

from msgspec import structs

from wexicon.core.standards import cellular
from wexicon.core.text import seconds, spoken
from wexicon.core.tuning import Tuning
from wexicon.core.values.base import OUT_OF_RANGE, Kind, Value, whole


class Int(Kind, frozen=True, tag="int"):
    """A whole number. `base` 16 and `width` say how the module writes it; `holes` are ranges that are not allowed."""

    min: int | None = None
    max: int | None = None
    step: int = 1
    holes: tuple[tuple[int, int], ...] = ()
    unit: str = ""
    base: int = 10
    width: int = 0

    def faults(self) -> Iterator[tuple[str, str]]:
        yield from _range_faults(self.min, self.max, self.step, self.holes)
        if self.base not in (10, 16):
            yield "base", f"{self.base} is not 10 or 16"
        if not 0 <= self.width <= 32:
            yield "width", f"{self.width} is not a number of digits from 0 to 32"

    def check(self, value: object) -> Value:
        if self.base == 16 and isinstance(value, str):
            # Text is as the datasheet writes it; a number is a number.
            number = int(value, 16) if re.fullmatch(r"(?:0[xX])?[0-9A-Fa-f]{1,16}", value.strip()) else None
        else:
            number = whole(value)
            if number is None and isinstance(value, str) and re.fullmatch(r"0[xX][0-9A-Fa-f]{1,16}", value):
                number = int(value, 16)
        if number is None:
            raise self.fault(value, "is not a hexadecimal number" if self.base == 16 else "is not a whole number")
        if not within(number, self.min, self.max):
            raise self.fault(value, OUT_OF_RANGE)
        if any(low <= number <= high for low, high in self.holes):
            raise self.fault(value, "falls in a range that is left out")
        if (number - (self.min or 0)) % self.step:
            raise self.fault(value, "falls between two steps")
        return number

    def others(self, value: Value) -> Iterator[object]:
        assert isinstance(value, int)
        yield from (value - self.step, value + self.step)

    def encode(self, value: Value) -> str:
        assert isinstance(value, int)
        return f"{value:0{self.width}X}" if self.base == 16 else f"{value:0{self.width}d}"

    def decode(self, text: str) -> Value:
        if self.base == 16:
            if not re.fullmatch(r" *[0-9A-Fa-f]{1,16} *", text):
                raise self.fault(text, "is not a hexadecimal number")
            number: int | None = int(text, 16)
        else:
            number = whole(text)
        if number is None:
            raise self.fault(text, "is not a whole number")
        if not within(number, self.min, self.max):
            raise self.fault(text, OUT_OF_RANGE)
        return number

    def allowed(self) -> str:
        what = "hexadecimal number" if self.base == 16 else "whole number"
        low, high = (None if limit is None else self._shown(limit) for limit in (self.min, self.max))
        holes = tuple((self._shown(first), self._shown(last)) for first, last in self.holes)
        return _range(what, low, high, self.step if self.step != 1 else None, holes, self.unit)

    def _shown(self, value: Value) -> str:
        return f"0x{value:0{self.width}X}" if self.base == 16 else str(value)

    def show(self, value: Value) -> str:
        shown = self._shown(value)
        return f"{shown} {self.unit}".rstrip()


class StationKind(Int, frozen=True, tag="station"):
    """The number of a module among those that share a line, which each line to it must hold. It moves the link, as a rate
    does."""

    def apply_to(self, tuning: Tuning, value: Value) -> Tuning:
        assert isinstance(value, int)
        return structs.replace(tuning, station=value)

    def stations(self) -> range:
        """The numbers that it can have."""
        return range(self.min or 0, 1 + (256 if self.max is None else self.max), self.step)


def within(number: int | Decimal, low: float | Decimal | None, high: float | Decimal | None) -> bool:
    """Whether a number lies between two limits; None is no limit."""
    return not ((low is not None and number < low) or (high is not None and number > high))


def _exact(limit: float | None) -> Decimal | None:
    """A limit as it is written in the lexicon."""
    return None if limit is None else Decimal(str(limit))


def _range_faults(
    low: float | None, high: float | None, step: float | None, holes: tuple[tuple[float, float], ...]
) -> Iterator[tuple[str, str]]:
    for key, number in (("min", low), ("max", high), ("step", step)):
        if number is not None and not isfinite(number):
            yield key, f"{number} is not a number"
    if low is not None and high is not None and low > high:
        yield "min", f"{low} is above max, {high}"
    if step is not None and step <= 0:
        yield "step", f"{step} is not above 0"
    for first, last in holes:
        if not (isfinite(first) and isfinite(last) and first <= last):
            yield "holes", f"[{first}, {last}] is not a range"


def _range(what: str, low: object, high: object, step: object, holes: object, unit: str) -> str:
    unit = f" {unit}" if unit else ""
    if low is not None and high is not None:
        text = f"{low} to {high}{unit}"
    elif low is not None:
        text = f"{what} from {low}{unit}"
    elif high is not None:
        text = f"{what} up to {high}{unit}"
    else:
        text = what + (f" in{unit}" if unit else "")
    if step is not None:
        text += f" in steps of {step}"
    if isinstance(holes, tuple) and holes:
        text += " without " + ", ".join(str(a) if a == b else f"{a} to {b}" for a, b in holes)
    return text


def _number(value: object) -> Decimal | None:
    if isinstance(value, bool) or not isinstance(value, (int, float, str, Decimal)):
        return None
    try:
        number = Decimal(str(value).strip(" "))
    except InvalidOperation:
        return None
    return number if number.is_finite() and number.adjusted() < 20 else None


class NumberKind(Kind, frozen=True, tag="decimal"):
    """A decimal number in `unit`. The module writes it less `offset`, multiplied by `scale`, with `places` digits after the
    point."""

    min: float | None = None
    max: float | None = None
    step: float | None = None
    holes: tuple[tuple[float, float], ...] = ()
    unit: str = ""
    scale: float = 1
    offset: float = 0
    places: int | None = None

    def faults(self) -> Iterator[tuple[str, str]]:
        yield from _range_faults(self.min, self.max, self.step, self.holes)
        if not (isfinite(self.scale) and self.scale > 0):
            yield "scale", f"{self.scale} is not a number above 0"
        if not isfinite(self.offset):
            yield "offset", f"{self.offset} is not a number"
        if self.places is not None and not 0 <= self.places <= 12:
            yield "places", f"{self.places} is not a number of digits from 0 to 12"

    def check(self, value: object) -> Value:
        number = _number(value)
        if number is None:
            raise self.fault(value, "is not a number")
        low, _, step = limits = [_exact(limit) for limit in (self.min, self.max, self.step)]
        if not within(number, *limits[:2]):
            raise self.fault(value, OUT_OF_RANGE)
        if any(Decimal(str(a)) <= number <= Decimal(str(b)) for a, b in self.holes):
            raise self.fault(value, "falls in a range that is left out")
        if step is not None and (number - (low or 0)) % step:
            raise self.fault(value, "falls between two steps")
        scaled = (number - Decimal(str(self.offset))) * Decimal(str(self.scale))
        if scaled != round(scaled, self.places if self.places is not None else 12):
            raise self.fault(value, "is finer than the module can be told")
        return number.normalize() if number else Decimal(0)

    def others(self, value: Value) -> Iterator[object]:
        assert isinstance(value, Decimal)
        step = Decimal(str(self.step or 1))
        yield from (value - step, value + step)

    def encode(self, value: Value) -> str:
        assert isinstance(value, Decimal)
        scaled = (value - Decimal(str(self.offset))) * Decimal(str(self.scale))
        if self.places is not None:
            return f"{scaled:.{self.places}f}"
        return f"{scaled.normalize():f}" if scaled else "0"

    def decode(self, text: str) -> Value:
        number = _number(text)
        if number is None:
            raise self.fault(text, "is not a number")
        number = number / Decimal(str(self.scale)) + Decimal(str(self.offset))
        if not within(number, _exact(self.min), _exact(self.max)):
            raise self.fault(text, OUT_OF_RANGE)
        return number.normalize() if number else Decimal(0)

    def allowed(self) -> str:
        return _range("number", self.min, self.max, self.step, self.holes, self.unit)

    def show(self, value: Value) -> str:
        assert isinstance(value, Decimal)
        return f"{value:f} {self.unit}".rstrip()


class TimerKind(Kind, frozen=True, tag="timer"):
    """A timer of a network, in seconds, written as eight bits of text: `gprs-2` (T3324, active time) as in 3GPP TS 24.008,
    10.5.7.4; `gprs-3` (T3412 extended, periodic update) as in 10.5.7.4a. A file writes a duration (`4h`); 0 switches it off."""

    form: str = "gprs-3"

    def faults(self) -> Iterator[tuple[str, str]]:
        if self.form not in cellular.UNITS:
            yield "form", f"{self.form!r} is not one of {', '.join(cellular.UNITS)}"

    def units(self) -> dict[int, int]:
        """Seconds by unit code; the smallest first."""
        return cellular.UNITS.get(self.form, cellular.UNITS["gprs-3"])

    def check(self, value: object) -> Value:
        number = whole(value)
        if number is None and isinstance(value, str):
            try:
                duration = seconds(value)
            except ValueError:
                raise self.fault(value, "is not a duration: use ms, s, min or h") from None
            number = int(duration) if duration == int(duration) else None
        if number is None or number < 0:
            raise self.fault(value, "is not a duration in whole seconds")
        if not cellular.codings(number, self.units()):
            around = [one for one in cellular.nearest(number, self.units()) if one is not None]
            close = min(around, key=lambda one: abs(one - number))
            raise self.fault(value, f"cannot be coded; the nearest is {spoken(close)} ({close}s)")
        return number

    def encode(self, value: Value) -> str:
        assert isinstance(value, int)
        return next(iter(cellular.codings(value, self.units())), "")

    def decode(self, text: str) -> Value:
        if not re.fullmatch(r"[01]{8}", text):
            raise self.fault(text, "is not eight bits")
        return cellular.decoded(text, self.units())

    def allowed(self) -> str:
        spans = ", ".join(
            f"{unit}s to {unit * cellular.MOST_UNITS}s by {unit}s" for unit in sorted(self.units().values())
        )
        return f"0 for off, or {spans}"

    def show(self, value: Value) -> str:
        return spoken(float(str(value))) if value else "off"
