"""The rate of a tapped side told from garbage: right, or nothing."""

from __future__ import annotations

from itertools import permutations

import pytest

from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.observations import Listener, Logged, Observation, Tuned
from wexicon.core.standards.waveform import heard_at
from wexicon.core.tuning import Tuning
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.tap_decoder import RateWatch, TapDecoder

RATES = (9600, 19200, 38400, 57600, 115200, 230400)
PAIRS = [(one, other) for one, other in permutations(RATES, 2) if max(one, other) / min(one, other) <= 6]


def garbage(text: bytes, sent: int, ours: int) -> bytes:
    return heard_at(text, Tuning(sent), Tuning(ours))


@pytest.mark.parametrize(("ours", "theirs"), PAIRS)
def test_words_that_were_said_before_tell_the_rate_or_nothing(ours: int, theirs: int) -> None:
    watch = RateWatch()
    watch.feed(b"AT+LABEL?\r\n", 0.0)
    assert watch.elapse(1.0, Tuning(ours)) is None
    watch.feed(garbage(b"AT+LABEL?\r\n", theirs, ours), 2.0)
    assert watch.elapse(3.0, Tuning(ours)) in (theirs, None)


def test_most_rates_are_told() -> None:
    told = 0
    for ours, theirs in PAIRS:
        watch = RateWatch()
        watch.feed(b"AT+LABEL?\r\n", 0.0)
        watch.elapse(1.0, Tuning(ours))
        watch.feed(garbage(b"AT+LABEL?\r\n", theirs, ours), 2.0)
        told += watch.elapse(3.0, Tuning(ours)) == theirs
    assert told >= 0.7 * len(PAIRS), f"{told} of {len(PAIRS)}"


def test_nothing_is_told_of_what_is_no_garbage_and_of_noise() -> None:
    watch = RateWatch()
    for number, text in enumerate((b"AT\r\n", b"quay \xc3\xa9t\xc3\xa9\r\n", bytes(range(128, 200)), b"\x00" * 40)):
        watch.feed(text, number)
        assert watch.elapse(number + 0.5, Tuning(9600)) is None


def test_a_pause_is_waited_for() -> None:
    watch = RateWatch()
    watch.feed(garbage(b"AT\r\n", 38400, 57600), 1.0)
    assert watch.elapse(1.01, Tuning(57600)) is None


class Seen(Listener):
    def __init__(self) -> None:
        self.all: list[Observation] = []

    def note(self, seen: Observation) -> None:
        self.all.append(seen)


@pytest.mark.parametrize("lexicon", ["", "brisca-w1"])
def test_a_tap_without_a_lexicon_follows_and_says_so(lexicon: str) -> None:
    seen, moved = Seen(), list[Tuning]()
    decoder = TapDecoder(find_lexicon(lexicon) if lexicon else None, Tuning(115200), seen, moved.append)
    decoder.feed(Side.HOST, b"AT+LABEL?\r\n", 0.0)
    decoder.feed(Side.MODULE, b"OK\r\n", 0.1)
    decoder.feed(Side.HOST, garbage(b"AT+LABEL?\r\n", 57600, 115200), 1.0)
    decoder.elapse(1.2)
    decoder.flush()
    assert moved == ([] if lexicon else [Tuning(57600)])
    told = [one for one in seen.all if isinstance(one, Tuned)]
    assert [one.tuning for one in told] == moved
    assert lexicon or any("the host sends at 57600" in one.text for one in seen.all if isinstance(one, Logged))
