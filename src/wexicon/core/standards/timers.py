"""Timers of power saving as a network codes them: the eight bits of GPRS timers, the four of extended reception cycles.

The rule: numbers are those of 3GPP TS 24.008, from memory as far as clauses are named; durations are seconds. A timer that
cannot be coded has a nearest one below and one above.
"""

from __future__ import annotations

from collections.abc import Mapping

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
