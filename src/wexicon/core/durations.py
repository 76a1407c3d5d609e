"""Durations as people write them: `60ms`, `1.5s`, `2m` (or `2min`), `1h`. Inside the program a duration is seconds, a float."""

from __future__ import annotations

import re
from typing import NamedTuple

_DURATION = re.compile(r"(\d{1,9}(?:\.\d{1,6})?)\s*(ms|s|min|m|h)", re.ASCII)
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0}


class Duration(NamedTuple):
    """A duration in seconds, and as it was written."""

    seconds: float
    text: str

    @classmethod
    def of(cls, text: str) -> Duration:
        """Raises ValueError with what is allowed."""
        return cls(seconds(text), text)


def seconds(text: str) -> float:
    """The duration in seconds. Raises ValueError with what is allowed."""
    found = _DURATION.fullmatch(text.strip())
    if not found:
        raise ValueError(f"{text!r} is not a duration: write a number and ms, s, m (or min) or h, such as 300ms or 2m")
    return float(found[1]) * _SECONDS[found[2]]


def spoken(duration: float) -> str:
    """The duration (seconds) as a person reads it: `12 ms`, `3.4 s`, `2 min 05 s`, `1 h 20 min`."""
    if duration < 0.9995:
        return f"{duration * 1000:.0f} ms"
    if duration < 59.95:
        return f"{duration:.1f} s"
    minutes, rest = divmod(round(duration), 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s"
    return f"{minutes // 60} h {minutes % 60:02d} min"
