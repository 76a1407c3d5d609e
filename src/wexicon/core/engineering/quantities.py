"""Quantities as people write and read them: `125kHz`, `4.7k`, `60s`, `2 mA`. Inside, a quantity is a number in its base unit.

The rule: a number without a unit is in the base unit; a unit of another kind is refused; what is shown has four digits that
count and the prefix that fits.
"""

from __future__ import annotations

import re
from math import floor, isfinite, log10

from wexicon.core.durations import spoken

_PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}
# Units that take prefixes, and other ways to write them.
_PREFIXED = {
    "Hz": ("Hz",),
    "V": ("V",),
    "A": ("A",),
    "Ω": ("Ω", "ohm", "R"),
    "F": ("F",),
    "W": ("W",),
    "Ah": ("Ah",),
    "m": ("m",),
    "bit/s": ("bit/s",),
}
_TIMES = {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0, "d": 86_400.0}
_NUMBER = re.compile(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,3})?)\s*(.*)", re.ASCII | re.DOTALL)
# A resistor with its prefix in place of the point: 4k7.
_INNER = re.compile(r"(\d+)([RkM])(\d+)", re.ASCII)


def parsed(text: str, unit: str) -> float:
    """The number in a text, in the base unit. Raises ValueError with what is allowed."""
    text = text.strip()
    if unit == "Ω" and (inner := _INNER.fullmatch(text)):
        return float(f"{inner[1]}.{inner[3]}") * _PREFIXES.get(inner[2], 1.0)
    found = _NUMBER.fullmatch(text)
    if not found or len(text) > 40:
        raise ValueError(f"{text[:40]!r} is not a number" + (f" with a unit, such as {example(unit)}" if unit else ""))
    factor = _factor(found[2].strip(), unit)
    if factor is None:
        raise ValueError(f"{found[2].strip()[:20]!r} is not a unit here; write {example(unit)}")
    value = float(found[1]) * factor
    if not isfinite(value):
        raise ValueError(f"{text!r} is too large")
    return value


def _factor(written: str, unit: str) -> float | None:
    """What a written unit multiplies the number by; None if it is not one of this kind."""
    if not written or written == unit:
        return 1.0
    if unit == "s":
        return _TIMES.get(written)
    if unit == "m":
        return {"mm": 1e-3, "cm": 1e-2, "km": 1e3, "k": 1e3}.get(written)
    if unit in _PREFIXED:
        for name in (*_PREFIXED[unit], ""):
            if written.endswith(name) and (prefix := written.removesuffix(name) if name else written) in _PREFIXES:
                return _PREFIXES[prefix]
            if name and written == name:
                return 1.0
    return None


def example(unit: str) -> str:
    """How a quantity of this unit may be written."""
    written = {"s": "30s or 5min", "Hz": "125kHz", "Ω": "4.7k", "m": "2km", "V": "3.3V", "A": "20mA", "F": "100uF"}
    return written.get(unit, f"a number of {unit}" if unit else "a number")


def shown(value: float | int | str | bool, unit: str = "") -> str:
    """A quantity as a person reads it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str):
        return value
    if unit == "s":
        return _time(value)
    if unit in _PREFIXED and value:
        return _prefixed(value, unit)
    return f"{value if isinstance(value, int) else digits(value)} {unit}".rstrip()


def digits(value: float, count: int = 4) -> str:
    """A number with `count` significant digits, without trailing zeros."""
    if not value or not isfinite(value):
        return f"{value:g}"
    places = count - 1 - floor(log10(abs(value)))
    if places <= 0:
        return f"{value:.0f}"
    if places > 9:
        return f"{value:.{count - 1}e}"
    text = f"{value:.{places}f}"
    return text.rstrip("0").rstrip(".")


def _prefixed(value: float, unit: str) -> str:
    size = abs(value)
    steps = [("", 1.0), ("k", 1e3), ("M", 1e6), ("G", 1e9)] if size >= 1 else []
    steps = steps or [("p", 1e-12), ("n", 1e-9), ("µ", 1e-6), ("m", 1e-3)]
    if unit == "m":
        steps = [("", 1.0), ("k", 1e3)] if size >= 1 else [("m", 1e-3), ("c", 1e-2)]
    if unit == "Ah" and size < 1:
        steps = [("m", 1e-3)]
    prefix, factor = next((one for one in reversed(steps) if size >= one[1] * 0.99995), steps[0])
    return f"{digits(value / factor, 6 if unit == 'Hz' else 4)} {prefix}{unit}"


def _time(seconds: float) -> str:
    """A time: short ones with four digits, long ones as people say them, with the seconds."""
    size = abs(seconds)
    if size < 60:
        for factor, unit in ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs")):
            if size >= factor * 0.99995:
                return f"{digits(seconds / factor)} {unit}"
        return f"{digits(seconds / 1e-6)} µs" if seconds else "0 s"
    if size >= 2 * 86_400:
        days = seconds / 86_400
        return f"{digits(days / 365.25)} years" if days >= 2 * 365.25 else f"{digits(days)} days"
    return f"{spoken(seconds)} ({digits(seconds, 7)} s)"
