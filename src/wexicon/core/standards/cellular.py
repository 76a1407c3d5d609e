"""What a cellular module reports by numbers, in words: registration (3GPP TS 27.007, 10.1.22; 7.2 has the first six), access
technology, calls, signal quality, and timers.

The rule: a number that the standard does not define stays a number. Numbers were written from memory, not checked against the
text of the standard.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

STATES = {
    0: "not registered, not searching",
    1: "registered, home network",
    2: "not registered, searching",
    3: "registration denied",
    4: "unknown, for example out of coverage",
    5: "registered, roaming",
    6: "registered for messages only, home network",
    7: "registered for messages only, roaming",
    8: "emergency calls only",
    9: "registered, home network, fallback not preferred",
    10: "registered, roaming, fallback not preferred",
}


# Access technologies, <AcT> of +COPS (3GPP TS 27.007, 7.3).
TECHNOLOGIES = {
    0: "GSM",
    1: "GSM compact",
    2: "UTRAN",
    3: "GSM with EGPRS",
    4: "UTRAN with HSDPA",
    5: "UTRAN with HSUPA",
    6: "UTRAN with HSPA",
    7: "LTE",
    8: "extended coverage GSM",
    9: "narrow-band",
}
# States of a call, <stat> of +CLCC (3GPP TS 27.007, 7.18).
CALL_STATES = {0: "active", 1: "held", 2: "dialling", 3: "alerting", 4: "incoming", 5: "waiting"}


def access_technology(number: object) -> str:
    """An access technology in words; nothing for none."""
    return TECHNOLOGIES.get(int(str(number)), f"technology {number}") if str(number) else ""


def call_state(number: object) -> str:
    """The state of a call in words."""
    return CALL_STATES.get(int(str(number)), f"state {number}")


def registration_state(state: object) -> str:
    """A state of +CREG, +CGREG or +CEREG in words."""
    return STATES.get(int(str(state)), f"state {state}")


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


# Seconds of one unit, by bits 8 to 6 of octet 3. GPRS timer 2 (T3324, 10.5.7.4) is coded as GPRS timer; GPRS timer 3 is that
# of T3412 extended (10.5.7.4a). The smallest comes first.
UNITS: dict[str, dict[int, int]] = {
    "gprs-2": {0: 2, 1: 60, 2: 360},
    "gprs-3": {3: 2, 4: 30, 5: 60, 0: 600, 1: 3600, 2: 36_000, 6: 1_152_000},
}
MOST_UNITS = 31
OFF = "11100000"
# Extended reception cycles in seconds (table 10.5.5.32): WB-S1 has every code, NB-S1 those in NARROW.
CYCLES = {
    "0000": 5.12,
    "0001": 10.24,
    "0010": 20.48,
    "0011": 40.96,
    "0100": 61.44,
    "0101": 81.92,
    "0110": 102.4,
    "0111": 122.88,
    "1000": 143.36,
    "1001": 163.84,
    "1010": 327.68,
    "1011": 655.36,
    "1100": 1310.72,
    "1101": 2621.44,
    "1110": 5242.88,
    "1111": 10485.76,
}
NARROW = ("0010", "0011", "0101", "1001", "1010", "1011", "1100", "1101", "1110", "1111")
# One step of the paging time window (seconds): code 0 is one step.
WINDOW_STEP = {"wide": 1.28, "narrow": 2.56}


def codings(seconds: float, units: Mapping[int, int]) -> list[str]:
    """All eight-bit codings of a timer, that with the smallest unit first; empty if there is none. 0 switches it off."""
    if seconds == 0:
        return [OFF]
    found = []
    for code, unit in units.items():
        count, rest = divmod(seconds, unit)
        if rest == 0 and 1 <= count <= MOST_UNITS:
            found.append(f"{code:03b}{int(count):05b}")
    return found


def decoded(bits: str, units: Mapping[int, int]) -> int:
    """The seconds of an eight-bit coding; 0 if it is switched off. A unit that is not defined is read as one minute."""
    code, count = int(bits[:3], 2), int(bits[3:], 2)
    return 0 if code == 7 else count * units.get(code, 60)


def nearest(seconds: float, units: Mapping[int, int]) -> tuple[int | None, int | None]:
    """The longest timer that is not longer than a wish, and the shortest that is not shorter; None if there is none."""
    possible = sorted({unit * count for unit in units.values() for count in range(1, MOST_UNITS + 1)})
    below = max((one for one in possible if one <= seconds), default=None)
    return below, min((one for one in possible if one >= seconds), default=None)


def cycles(mode: str) -> dict[str, float]:
    """The extended reception cycles of a mode (`wide`: WB-S1, `narrow`: NB-S1), by their codes."""
    return {code: CYCLES[code] for code in (NARROW if mode == "narrow" else CYCLES)}


def paging_window(code: str, mode: str) -> float:
    """The paging time window of a four-bit code, in seconds: one step for 0000, up to sixteen."""
    return (int(code, 2) + 1) * WINDOW_STEP[mode]
