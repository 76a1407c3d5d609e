"""What the numbers of signal reports of 3GPP TS 27.007 mean: in dBm and dB, and in words.

The rule: a number stands for a range of values; what is given is its lower edge, and 99 or 255 mean "not known". Numbers are
from memory of +CSQ and +CESQ; the words are ours, by what such a signal is worth.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Scale(NamedTuple):
    """A scale: the least and the greatest number that mean something, the value of the least number, the step, the unit, the
    number for "not known", and from which value on a signal is good, fair, or weak."""

    low: int
    high: int
    first: float
    step: float
    unit: str
    unknown: int
    good: float
    fair: float
    weak: float


# +CSQ: rssi 0 is -113 dBm or less, 31 is -51 dBm or more. +CESQ: rxlev 0 is below -110 dBm; rsrq 0 is below -19.5 dB, rsrp 0 is
# below -140 dBm; ecno 0 is below -24 dB, rscp 0 is below -120 dBm. SINR of 3GPP TS 38.133: 0 is below -23 dB.
SCALES: Mapping[str, Scale] = {
    "csq": Scale(0, 31, -113, 2, "dBm", 99, -83, -93, -103),
    "rxlev": Scale(0, 63, -111, 1, "dBm", 99, -83, -93, -103),
    "rscp": Scale(0, 96, -121, 1, "dBm", 255, -85, -95, -105),
    "ecno": Scale(0, 49, -24.5, 0.5, "dB", 255, -8, -12, -16),
    "rsrp": Scale(0, 97, -141, 1, "dBm", 255, -90, -105, -115),
    "rsrq": Scale(0, 34, -20, 0.5, "dB", 255, -10, -15, -18),
    "sinr": Scale(0, 127, -23.5, 0.5, "dB", 255, 13, 5, 0),
}


def value_of(scale: str, number: int) -> float:
    """The lower edge of what a number stands for, in dBm or dB; of the least number the upper edge. Raises ValueError for one
    that the scale does not have."""
    found = SCALES[scale]
    if number == found.unknown:
        raise ValueError(f"{number} means that the module does not know it")
    if not found.low <= number <= found.high:
        raise ValueError(f"{scale} is a number from {found.low} to {found.high}, or {found.unknown}: not known")
    # The least number stands for all that is weaker than its upper edge, which +CSQ has as its value.
    return found.first + found.step * (number if scale == "csq" else max(number, 1))


def number_of(scale: str, value: float) -> int:
    """The number that stands for a value in dBm or dB."""
    found = SCALES[scale]
    return int(min(max((value - found.first) // found.step, found.low), found.high))


def in_words(scale: str, value: float) -> str:
    """What a signal is worth: good, fair, weak, or poor."""
    found = SCALES[scale]
    for limit, word in ((found.good, "good"), (found.fair, "fair"), (found.weak, "weak")):
        if value >= limit:
            return word
    return "poor: expect failures"
