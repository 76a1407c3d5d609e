"""What a UART hears when the other side sends at another rate or frame, and which rate some garbage came from.

The rule: nothing is made up. Sent bytes become the levels of the line, one value for each bit time; the receiver
looks for a falling edge and samples the middle of each of its own bit times, as a UART does (start bit low, data bits
least significant first, parity, stop bits high; the line rests high).
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from wexicon.core.tuning import USUAL_RATES, Tuning

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
