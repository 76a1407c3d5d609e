"""The waveform of a serial line: what a UART hears when the other side sends at another rate or frame, which rate some garbage
came from, and the bytes in the edges that a logic analyser recorded.

The rule: nothing is made up. Bytes become the levels of the line; the receiver looks for a falling edge and samples the middle
of each of its own bit times, as a UART does (start bit low, data bits least significant first, parity, stop bits high; the
line rests high). A bit time is believed if nearly all pulses are whole numbers of it and nearly every character ends with its
stop bit; a line that cannot be read so is refused.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wexicon.core.tuning import USUAL_RATES, Tuning, frame_of

# Bytes that are compared in order; more would take long and tell nothing new.
_COMPARED = 160
# How much alike two texts must be to be taken for one, from 0 to 1.
WORTH = 0.5


def levels(data: bytes, tuning: Tuning) -> NDArray[np.uint8]:
    """The level of the line in each bit time while `data` is sent back to back: 1 is high (rest), 0 is low."""
    sent = np.frombuffer(data, dtype=np.uint8)
    line = np.ones((len(sent), tuning.char_bits), dtype=np.uint8)
    line[:, 0] = 0
    bits = (sent[:, None] >> np.arange(tuning.bits, dtype=np.uint8)) & 1
    line[:, 1 : 1 + tuning.bits] = bits
    if tuning.parity != "N":
        odd_ones = bits.sum(axis=1) & 1
        line[:, 1 + tuning.bits] = odd_ones if tuning.parity == "E" else 1 - odd_ones
    return line.reshape(-1)


@lru_cache(maxsize=4096)
def heard_at(data: bytes, sent: Tuning, ours: Tuning) -> bytes:
    """The bytes that a UART tuned to `ours` takes in while `data` is sent with `sent`.

    Characters with a wrong parity or stop bit are passed on as they are sampled, which is what operating systems do
    unless told otherwise; a line held low through a whole character is heard as a zero byte. After a character the
    receiver waits for the next falling edge.
    """
    if sent == ours or not data:
        return data
    line = levels(data, sent)
    before = np.concatenate(([1], line[:-1]))
    edges = (np.flatnonzero((before == 1) & (line == 0)) / sent.rate).tolist()
    # A character has a dozen samples: plain numbers are faster for them than arrays.
    level, end = line.tobytes(), len(line) - 1
    bit = 1 / ours.rate
    samples = [((1.5 + number) * bit, 1 << number) for number in range(ours.bits)]
    last_sample = (ours.char_bits - ours.stop + 0.5) * bit
    taken = bytearray()
    at = 0
    while at < len(edges):
        start = edges[at]
        # A glitch shorter than half of our bit time is no start bit: the middle of the start must still be low.
        if level[min(int((start + 0.5 * bit) * sent.rate), end)] == 0:
            byte = 0
            for offset, weight in samples:
                where = int((start + offset) * sent.rate)
                if where > end or level[where]:
                    byte += weight
            taken.append(byte)
            at = bisect_right(edges, start + last_sample)
        else:
            at += 1
    return bytes(taken)


def true_rate(
    garbage: bytes,
    ours: Tuning,
    texts: Iterable[bytes],
    rates: Iterable[int] = USUAL_RATES,
    lasted: float | None = None,
    least: float = WORTH,
) -> int | None:
    """The rate at which one of `texts` would have been heard as `garbage` by a UART tuned to `ours`; None if none fits, or
    several fit as well.

    `texts` are what the module may have sent: its start message, its ready word, a sentence. Each is sent at each rate, and
    the received bytes are compared one by one and by how often each byte is there. `lasted` are the seconds that the garbage
    took to come: far below our rate only this tells one rate from another, for every low bit is a whole zero byte to us.
    `least` is the likeness below which nothing is concluded, from 0 to 1.
    More than ten times above our rate a text must be known to the letter, for a dozen of its characters are one to us.
    """
    if not garbage:
        return None
    scores: dict[int, float] = {}
    known = list(texts)
    for rate in rates:
        if rate == ours.rate:
            continue
        sent = Tuning(rate, ours.bits, ours.parity, ours.stop)
        for text in known:
            simulated = heard_at(text, sent, ours)
            before = max(scores.get(rate, 0.0), *scores.values(), least) if scores else least
            alike = _in_number(garbage, simulated)
            in_time = None
            if lasted and simulated:
                taken = sent.wire_time(len(text)) * len(garbage) / len(simulated)
                in_time = min(taken, lasted) / max(taken, lasted)
            # In order there cannot be more alike than there is in number: what is too far away is not looked at closer.
            if _with_time(_at_most(garbage, simulated), in_time) > before:
                alike = max(alike, _in_order(garbage, simulated))
            scores[rate] = max(scores.get(rate, 0.0), _with_time(alike, in_time))
    if not scores:
        return None
    best, score = max(scores.items(), key=lambda item: item[1])
    alone = list(scores.values()).count(score) == 1
    return best if score > least and alone else None


def _with_time(alike: float, in_time: float | None) -> float:
    return alike if in_time is None else (alike + in_time) / 2


def _at_most(garbage: bytes, simulated: bytes) -> float:
    """What `_in_order` gives at most."""
    garbage, simulated = garbage[:_COMPARED], simulated[:_COMPARED]
    common = sum((Counter(garbage) & Counter(simulated)).values())
    return 2 * common / max(1, len(garbage) + len(simulated))


def _in_order(garbage: bytes, simulated: bytes) -> float:
    """How much of the two is the same and in the same order, from 0 to 1."""
    from difflib import SequenceMatcher

    if not simulated:
        return 0.0
    garbage, simulated = garbage[:_COMPARED], simulated[:_COMPARED]
    matcher = SequenceMatcher(None, garbage, simulated, autojunk=False)
    same = sum(block.size for block in matcher.get_matching_blocks())
    return 2 * same / (len(garbage) + len(simulated))


def _in_number(garbage: bytes, simulated: bytes) -> float:
    """How much of the two is the same when only the number of each byte counts: for texts that are alike, not equal."""
    if not simulated:
        return 0.0
    one, two = (
        np.bincount(np.frombuffer(data, dtype=np.uint8), minlength=256) / len(data) for data in (garbage, simulated)
    )
    return 0.9 * float(np.minimum(one, two).sum())


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


class WaveformReading(NamedTuple):
    """A line that was read: its tuning (the rate as measured), whether its levels are inverted, and its characters."""

    tuning: Tuning
    inverted: bool
    chars: list[Char]


def read_line(edges: Sequence[Edge], end: float, rate: int | None = None) -> WaveformReading:
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
    return WaveformReading(tuning, inverted, chars)


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
