"""The serial line between a host and its module: dividers of a clock and their error, throughput, and which pins may be
connected.

The rule: rates are baud, clocks hertz, times seconds; an error is a share of the wanted rate. A receiver samples the middle of
each bit from the edge of the start bit on. A connection that may damage a pin is never called direct; limits that are not
known are said to be assumed.
"""

from __future__ import annotations

from typing import NamedTuple

from wexicon.core.engineering import electric
from wexicon.core.engineering.topic import shown
from wexicon.core.tuning import Tuning


class Divider(NamedTuple):
    """A divider of the clock: the whole part and the fraction's numerator, the rate that comes of it, and its error."""

    whole: int
    fraction: int
    rate: float
    error: float


def divider(clock_hz: float, rate_baud: float, oversampling: int = 16, fraction_bits: int = 0) -> Divider:
    """The divider that comes nearest to a rate: clock / (oversampling x divider), where the divider's fraction has
    `fraction_bits` bits (0: whole numbers only). Raises ValueError if the clock is too slow, or something is not above 0."""
    if clock_hz <= 0 or rate_baud <= 0 or oversampling <= 0 or not 0 <= fraction_bits <= 16:
        raise ValueError("clock, rate and oversampling are above 0, and a fraction has 0 to 16 bits")
    steps = 1 << fraction_bits
    exact = clock_hz / (oversampling * rate_baud) * steps
    if exact < steps:
        slowest = oversampling * rate_baud
        raise ValueError(f"the clock is too slow: {rate_baud:g} baud needs {slowest:.0f} Hz at least")
    # Of the two around it that with the smaller error counts: errors are not the same on both sides.
    count = min((int(exact), int(exact) + 1), key=lambda one: abs(clock_hz * steps / (oversampling * one) - rate_baud))
    made = clock_hz * steps / (oversampling * count)
    return Divider(count // steps, count % steps, made, made / rate_baud - 1)


def tolerance(tuning: Tuning, oversampling: int = 16) -> float:
    """By which share the rates of both ends may differ before the last bit is sampled wrongly: half a bit at the middle of the
    stop bit, less the oversampling clock's step by which the start is found late. Both directions are alike."""
    to_stop = tuning.char_bits - tuning.stop + 0.5
    return (0.5 - 1 / oversampling) / to_stop


def bit_time(rate_baud: float) -> float:
    """How many seconds a bit takes."""
    return 1 / rate_baud


def throughput(payload_bytes: int, said_bytes: int, heard_bytes: int, tuning: Tuning, thinking_s: float = 0.0) -> float:
    """Payload bytes a second of a protocol that sends `said_bytes` for each `payload_bytes`, waits for an answer of
    `heard_bytes`, and whose other end thinks for a while."""
    return payload_bytes / (tuning.wire_time(said_bytes + heard_bytes) + thinking_s)


def report_rate(bytes_each: int, interval_s: float, tuning: Tuning) -> float:
    """Which share of the line a report of `bytes_each` bytes takes that comes every `interval_s`."""
    return tuning.wire_time(bytes_each) / interval_s


# What a USB port gives at most (USB 2.0), and the high level of a TTL input.
USB_GIVES, TTL_HIGH = 0.5, 2.0
# With larger resistors the capacitance of a wire rounds the edges of a fast UART.
FAST_ENOUGH = 10e3


class Line(NamedTuple):
    """A pin of the module, what it goes to at the adapter, how, and whether care is needed."""

    pin: str
    to: str
    how: str
    careful: bool


def data_in(adapter_volts: float, level: float, stands: float | None) -> tuple[str, bool]:
    """How the adapter's TXD reaches an input of the module, and whether care is needed."""
    takes = electric.cmos_level(level)
    takes = takes._replace(stands=stands if stands is not None else takes.stands)
    fit = electric.drives(electric.cmos_level(adapter_volts), takes)
    if fit.damages:
        best = electric.divider_pairs(adapter_volts, level, highest=FAST_ENOUGH)[0]
        divider = f"{shown(best.upper, 'Ω')} in series, {shown(best.lower, 'Ω')} to ground: {shown(best.volts, 'V')}"
        return f"divider, {divider}; directly it would be damaged: it stands {shown(takes.stands, 'V')}", True
    if not fit.drives:
        return f"level shifter: it needs {shown(takes.takes_high, 'V')} for high", True
    return "directly", False


def data_out(level: float, adapter_volts: float) -> tuple[str, bool]:
    """How an output of the module reaches the adapter's RXD, and whether care is needed."""
    fit = electric.drives(electric.cmos_level(level), electric.cmos_level(adapter_volts))
    if fit.damages:
        best = electric.divider_pairs(level, adapter_volts, highest=FAST_ENOUGH)[0]
        return f"divider, {shown(best.upper, 'Ω')} in series, {shown(best.lower, 'Ω')} to ground", True
    if fit.drives:
        return "directly", False
    gives = electric.cmos_level(level).gives_high
    needs = electric.cmos_level(adapter_volts).takes_high
    if gives >= TTL_HIGH:
        told = f"directly if the adapter has TTL inputs ({shown(TTL_HIGH, 'V')}); else a level shifter"
        return f"{told}: a CMOS input of {shown(adapter_volts, 'V')} needs {shown(needs, 'V')}", True
    return f"level shifter: the adapter needs {shown(needs, 'V')} for high, the module gives {shown(gives, 'V')}", True


def supplied(
    adapter_volts: float, supply: tuple[float, float], peak: float | None, gives: float = USB_GIVES
) -> tuple[str, str, bool]:
    """What feeds the module, how, and whether care is needed; `gives` is the most that the adapter gives (amperes)."""
    enough = peak is None or peak <= gives
    if supply[0] <= adapter_volts <= supply[1] and enough:
        return "its supply", "directly", False
    if supply[0] <= adapter_volts <= supply[1]:
        told = f"the module takes {shown(peak or 0.0, 'A')} at its peak, the adapter gives {shown(gives, 'A')}"
        return "a supply of its own", told, True
    middle = (supply[0] + supply[1]) / 2
    current = f" that gives {shown(peak, 'A')}" if peak else ""
    wrong = "it would be damaged" if adapter_volts > supply[1] else "that is too little"
    return "a regulator", f"for {shown(middle, 'V')}{current}; {shown(adapter_volts, 'V')} directly: {wrong}", True
