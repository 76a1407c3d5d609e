"""Rate, frame, inversion and bytes found in the edges of a line."""

from __future__ import annotations

import random

import pytest

from tests.waves import Drawn, inverted
from wexicon.core.standards.waveform import LineRefused, read_line
from wexicon.core.tuning import Tuning

PAUSES = (0.0, 0.0, 3.3, 27.1)


def made(seed: int, frame: str = "8N1") -> tuple[bytes, Drawn]:
    """60 bytes at a rate by chance, their bits displaced by up to 2 %."""
    chance = random.Random(seed)
    data = bytes(chance.randrange(256) for _ in range(60))
    line = Drawn(Tuning.of(chance.randrange(1_000, 1_000_000), frame), seed, 0.02)
    line.say(data, pauses=PAUSES)
    return data, line


@pytest.mark.parametrize("frame", ["8N1", "8E1", "8O1"])
@pytest.mark.parametrize("a_bit", [4, 5, 7, 20])
def test_from_four_samples_a_bit_on_all_is_found(frame: str, a_bit: float) -> None:
    """Five rates by chance for each: within 1 %, every byte equal, none refused; half of the lines inverted."""
    for seed in range(5):
        data, line = made(seed + int(5 * a_bit), frame)
        edges = line.sampled(a_bit)
        found = read_line(inverted(edges) if seed % 2 else edges, line.until())
        assert bytes(char.byte for char in found.chars) == data
        assert abs(found.tuning.rate - line.tuning.rate) <= 0.01 * line.tuning.rate
        assert (found.tuning.frame, found.inverted) == (frame, bool(seed % 2))
        assert not any(char.wrong for char in found.chars)


@pytest.mark.parametrize("a_bit", [1, 1.5, 2, 2.5, 3, 3.5])
def test_with_fewer_samples_it_is_right_or_refused(a_bit: float) -> None:
    refused = 0
    for seed in range(6):
        data, line = made(seed)
        try:
            found = read_line(line.sampled(a_bit), line.until())
        except LineRefused as fault:
            refused += 1
            assert "at least four for each bit" in str(fault) or "no bit time fits" in str(fault)
        else:
            assert bytes(char.byte for char in found.chars) == data
    assert refused


def test_glitches_are_no_characters() -> None:
    data, line = made(3)
    for number in range(1, 6):
        line.glitch(number * line.bit)
    found = read_line(line.edges, line.until())
    assert bytes(char.byte for char in found.chars) == data


def test_a_wrong_stop_bit_is_told_at_its_place() -> None:
    """A break of twelve bits after the fifth character: that one is wrong, no other."""
    line = Drawn(Tuning(9600), 1)
    line.say(b"quays")
    start = line.end
    line.edges += [(start, 0), (start + 12 * line.bit, 1)]
    line.say(b"harbour wall and mooring, lamp 3\r\n", start + 40.4 * line.bit)
    found = read_line(line.edges, line.until())
    wrong = [number for number, char in enumerate(found.chars) if char.wrong]
    assert wrong == [5]
    assert found.chars[5].at == pytest.approx(start)
    assert bytes(char.byte for char in found.chars if not char.wrong) == b"quaysharbour wall and mooring, lamp 3\r\n"


def test_seven_bits_with_parity_are_told_from_text() -> None:
    line = Drawn(Tuning.of(19200, "7E1"), 4, 0.02)
    line.say(b"AT+LABEL=quay 3\r\nOK\r\n", pauses=PAUSES)
    found = read_line(line.edges, line.until())
    assert found.tuning.frame == "7E1"
    assert bytes(char.byte for char in found.chars) == b"AT+LABEL=quay 3\r\nOK\r\n"


def test_a_given_rate_is_the_only_one_tried() -> None:
    data, line = made(5)
    assert bytes(char.byte for char in read_line(line.edges, line.until(), line.tuning.rate).chars) == data
    with pytest.raises(LineRefused, match="no bit time fits"):
        read_line(line.edges, line.until(), line.tuning.rate * 2)


@pytest.mark.parametrize("edges", [[], [(0.0, 1)], [(0.0, 1), (1.0, 1), (2.0, 0)]])
def test_a_line_at_rest_is_refused(edges: list[tuple[float, int]]) -> None:
    with pytest.raises(LineRefused, match="nothing was sent"):
        read_line(edges, 3.0)


def test_edges_drawn_without_samples_are_read() -> None:
    """As a simulator writes them: whole bits apart, the pauses not. Where these are too, the rate must be given."""
    line = Drawn(Tuning(9600))
    line.say(b"AT+LABEL=quay 3\r\n", line.say(b"AT\r\n") + 0.01213)
    assert bytes(char.byte for char in read_line(line.edges, line.until()).chars) == b"AT\r\nAT+LABEL=quay 3\r\n"
    line.say(b"AT\r\n" * 5, line.end + 20 * line.bit, pauses=(12.0,))
    with pytest.raises(LineRefused, match="or the rate must be given"):
        read_line(line.edges, line.until())
    assert len(read_line(line.edges, line.until(), 9600).chars) == 41
