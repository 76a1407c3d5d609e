"""Bytes in the edges of a serial line, as a logic analyser records them: its rest level, its bit time, its frame, its bytes.

The rule: a bit time is believed if nearly all pulses are whole numbers of it and nearly every character ends with its stop bit;
what does not fit is a framing error at its place, and a line that cannot be read so is refused.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple

from wexicon.core.tuning import Tuning, frame_of

Edge = tuple[float, int]
# Shorter pulses than this part of a bit are glitches.
GLITCH = 0.35
# How many framing errors among the characters, or glitches among the pulses, make a reading worthless.
MOST_WRONG = 0.1
# Frames that are tried, the usual ones first; 7 data bits with a parity are told by `frame_of`.
_FRAMES = ("8N1", "8E1", "8O1", "8N2")
# The longest pulse inside of a character, in bits; the longest pause that tells whether edges are on a grid, in its steps.
_LONGEST_RUN = 10
_LONGEST_PAUSE = 200
_LEAST_SAMPLES = 4


class LineRefused(ValueError):
    """A line whose bytes cannot be read, and why."""


class Char(NamedTuple):
    """One character: when it began and ended in seconds, its byte, and whether its stop bit, or its parity, was wrong."""

    at: float
    end: float
    byte: int
    wrong: bool


class Reading(NamedTuple):
    """A line that was read: its tuning (the rate as measured), whether its levels are inverted, and its characters."""

    tuning: Tuning
    inverted: bool
    chars: list[Char]


def read_line(edges: Sequence[Edge], end: float, rate: int | None = None) -> Reading:
    """The bytes of one line, from its level changes (time in seconds, new level), the first of which is its level at the start,
    to the time `end`. With `rate` only that is tried. Raises LineRefused."""
    changes = _changes(edges)
    if len(changes) < 3:
        raise LineRefused("nothing was sent on this line")
    inverted = _rests_low(changes, end)
    if inverted:
        changes = [(at, 1 - level) for at, level in changes]
    best: tuple[float, float, str, list[Char]] | None = None
    for bit in [1 / rate] if rate else _bit_times(changes):
        clean = _without_glitches(changes, bit * GLITCH)
        if len(clean) < (1 - MOST_WRONG) * len(changes):
            continue
        for frame in _FRAMES:
            chars = _characters(clean, end, bit, Tuning.of(9600, frame))
            if not chars:
                continue
            share = sum(char.wrong for char in chars) / len(chars)
            # Of two that fit alike the longer bit, and the simpler frame, is right.
            if best is None or share < best[0] - 0.02:
                best = (share, bit, frame, chars)
    if best is None or best[0] > MOST_WRONG:
        raise LineRefused("no bit time fits its pulses: the samples are too far apart, or this is no serial line")
    _, bit, frame, chars = best
    # Pauses between characters are no whole numbers of bits: measured inside of them it is exact.
    bit = rate_of(_without_glitches(changes, bit * GLITCH), chars, bit) if not rate else bit
    if not rate and _too_coarse(changes, bit):
        raise LineRefused(
            "its samples are too far apart: at least four for each bit are needed, or the rate must be given"
        )
    chars = _characters(_without_glitches(changes, bit * GLITCH), end, bit, Tuning.of(9600, frame))
    tuning = Tuning.of(round(1 / bit), frame)
    data = bytes(char.byte for char in chars)
    if frame == "8N1" and (other := frame_of(data)) != "8N1" and len(chars) >= 4:
        tuning = Tuning.of(round(1 / bit), other)
        chars = [char._replace(byte=char.byte & 0x7F) for char in chars]
    return Reading(tuning, inverted, chars)


def _too_coarse(changes: Sequence[Edge], bit: float) -> bool:
    """Whether the edges are on a grid of samples with fewer than four steps for a bit. Edges that are drawn, not sampled, are
    whole bits apart too; but the pauses between characters are not."""
    spans = sorted(other[0] - one[0] for one, other in pairwise(changes) if other[0] > one[0])
    widths = [span for span in spans if span < _LONGEST_RUN * bit]
    gaps = [other - one for one, other in pairwise(widths) if other - one > bit * 1e-3]
    step = min([*gaps, *widths[:1]], default=0.0)
    if step * _LEAST_SAMPLES <= bit * 1.03:
        return False
    step = _refined(widths, step) or step
    pauses = [span / step for span in spans if _LONGEST_RUN * bit <= span < _LONGEST_PAUSE * step]
    if not pauses:
        return abs(step - bit) > 0.03 * bit
    return sum(abs(pause - round(pause)) < 0.15 for pause in pauses) > 0.9 * len(pauses)


def _changes(edges: Sequence[Edge]) -> list[Edge]:
    """The edges without those that change nothing."""
    made: list[Edge] = []
    for at, level in edges:
        if not made or made[-1][1] != level:
            made.append((at, level))
    return made


def _rests_low(changes: Sequence[Edge], end: float) -> bool:
    """Whether the line is low in its long pauses. A line rests high, unless it is inverted."""
    spans = [(other[0] - one[0], one[1]) for one, other in pairwise([*changes, (end, 1 - changes[-1][1])])]
    usual = sorted(length for length, _ in spans)[len(spans) // 2]
    rests = [(length, level) for length, level in spans if length > _LONGEST_RUN * usual]
    if not rests:
        return sum(length for length, level in spans if not level) > sum(length for length, level in spans if level)
    return sum(length for length, level in rests if not level) > sum(length for length, level in rests if level)


def _bit_times(changes: Sequence[Edge]) -> list[float]:
    """Bit times that may be, the likeliest first: the shortest pulse that is frequent, a half and a third of it."""
    widths = sorted(other[0] - one[0] for one, other in pairwise(changes) if other[0] > one[0])
    if not widths:
        return []
    found: list[float] = []
    for start in _clusters(widths)[:4]:
        for part in (1, 2, 3):
            bit = _refined(widths, start / part)
            if bit and all(abs(bit - one) > 0.01 * one for one in found):
                found.append(bit)
    return found


def _clusters(widths: Sequence[float]) -> list[float]:
    """The medians of the shortest groups of like pulses; lone ones are glitches."""
    groups: list[list[float]] = []
    for width in widths:
        if groups and width <= groups[-1][0] * 1.45:
            groups[-1].append(width)
        else:
            groups.append([width])
    least = max(2, len(widths) // 50)
    frequent = [group for group in groups if len(group) >= least] or groups
    return [group[len(group) // 2] for group in frequent]


def _refined(widths: Sequence[float], bit: float) -> float | None:
    """The bit time that fits all pulses best, near this one: the pulses are whole numbers of it."""
    for _ in range(4):
        weighed = counted = 0.0
        for width in widths:
            number = round(width / bit)
            if 1 <= number <= _LONGEST_RUN and abs(width / bit - number) < 0.35:
                weighed += width * number
                counted += number * number
        if not counted:
            return None
        bit = weighed / counted
    return bit


def rate_of(changes: Sequence[Edge], chars: Sequence[Char], bit: float) -> float:
    """The bit time by the edges inside of characters, each counted from its start bit (seconds)."""
    weighed = counted = 0.0
    times = [at for at, _ in changes]
    for char in chars:
        if char.wrong:
            continue
        inside = times[bisect_right(times, char.at) : bisect_right(times, char.end - 1.5 * bit)]
        for at in inside:
            number = round((at - char.at) / bit)
            weighed += (at - char.at) * number
            counted += number * number
    return weighed / counted if counted else bit


def _without_glitches(changes: Sequence[Edge], least: float) -> list[Edge]:
    """The changes without pulses that are shorter than this."""
    made: list[Edge] = [changes[0]]
    for edge in changes[1:]:
        if len(made) > 1 and edge[0] - made[-1][0] < least:
            made.pop()
        elif made[-1][1] != edge[1]:
            made.append(edge)
    return _changes(made)


def _characters(changes: Sequence[Edge], end: float, bit: float, frame: Tuning) -> list[Char]:
    """The characters of a line that rests high, each from the falling edge of its start bit."""
    made: list[Char] = []
    index, count = 0, len(changes)
    times = [at for at, _ in changes]

    def level_at(moment: float, start: int) -> int:
        return changes[bisect_right(times, moment, start) - 1][1]

    while index < count:
        at, level = changes[index]
        if level or (index == 0 and at == changes[0][0] and level == 0 and index + 1 == count):
            index += 1
            continue
        last = at + (frame.char_bits - 0.5 - (frame.stop - 1)) * bit
        if last > end + bit:
            break
        bits = [level_at(at + (1.5 + number) * bit, index) for number in range(frame.bits)]
        byte = sum(one << number for number, one in enumerate(bits))
        wrong = not level_at(last, index)
        if frame.parity != "N":
            given = level_at(at + (1.5 + frame.bits) * bit, index)
            wrong = wrong or given != (sum(bits) + (frame.parity == "O")) % 2
        if frame.stop == 2:
            wrong = wrong or not level_at(last + bit, index)
        made.append(Char(at, at + frame.char_bits * bit, byte, bool(wrong)))
        # The next character begins with a falling edge behind the middle of the stop bit.
        while index < count and changes[index][0] < last:
            index += 1
    return made
