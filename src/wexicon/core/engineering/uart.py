"""UART: dividers of a clock and their error, what both ends may differ by, throughput.

The rule: rates are baud, clocks hertz, times seconds; an error is a share of the wanted rate. A receiver samples the middle of
each bit from the edge of the start bit on.
"""

from __future__ import annotations

from typing import NamedTuple

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
