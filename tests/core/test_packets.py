"""Packets are found whole at any split and in any company; what was damaged, or is another run's, is never counted as come."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import example, given
from hypothesis import strategies as st

from wexicon.core.protocol.transfers import Damaged, Packet, Packets, Tally, percentile


def whole(reader: Packets, data: bytes, cuts: list[int]) -> list[Packet | Damaged]:
    places = [0, *sorted(cut % (len(data) + 1) for cut in cuts), len(data)]
    return [one for first, last in pairwise(places) for one in reader.feed(data[first:last])]


@given(st.booleans(), st.integers(24, 240), st.lists(st.integers(0, 10_000), max_size=8), st.integers(0, 2**32))
def test_all_that_was_sent_is_found_at_any_split(lines: bool, size: int, cuts: list[int], seed: int) -> None:
    made = Packets(size, lines=lines, seed=seed)
    numbers = [0, 1, 65_535, 65_536, 1_000_000]
    data = b"".join(made.made("a", number) for number in numbers)
    reader = Packets(size, lines=lines, seed=seed)
    assert whole(reader, data, cuts) == [Packet("a", number) for number in numbers] and not reader.strange
    other = Packets(size, lines=lines, seed=seed + 1)
    assert not [one for one in whole(other, data, cuts) if isinstance(one, Packet)]
    assert len(made.made("b", 9).rstrip()) <= size or not lines


@example(False, 0, b"\xd7", True)
@example(False, 31, Packets(32, lines=False, seed=7).made("a", 2)[31:], True)
@given(st.booleans(), st.integers(0, 10_000), st.binary(max_size=40), st.booleans())
def test_damage_and_strangers_lose_no_packet_but_those_they_touch(lines: bool, at: int, junk: bytes, cut: bool) -> None:
    made = Packets(32, lines=lines, seed=7)
    sent = [made.made("a", number) for number in range(6)]
    broken = sent[2]
    place = at % len(broken)
    # A byte that is changed, or lost.
    sent[2] = broken[:place] + (b"" if cut else bytes([broken[place] ^ 0x55])) + broken[place + 1 :]
    data = b"".join([*sent[:3], junk, b"\r\n", *sent[3:], b"\r\n" * 20])
    found = whole(Packets(32, lines=lines, seed=7), data, [])
    numbers = [one.number for one in found if isinstance(one, Packet)]
    # The junk may begin with the byte that was cut off: then the packet is whole again.
    damaged = broken not in data and broken[place : place + 1] not in b"\r\n"
    assert (2 not in numbers or not damaged) and set(numbers) >= {0, 1, 4, 5}


@given(st.binary(max_size=2000), st.booleans())
def test_any_bytes_are_no_packets_and_little_is_held(data: bytes, lines: bool) -> None:
    reader = Packets(64, lines=lines, seed=3)
    assert not [one for one in reader.feed(data * 20) if isinstance(one, Packet)] and len(reader._held) <= 1100


def test_a_tally_counts_each_number_once() -> None:
    tally = Tally()
    tally.sent.update({1: 0.0, 2: 0.5, 3: 1.0})
    assert tally.receive(1, 0.2) and not tally.receive(1, 0.3) and not tally.receive(9, 0.4)
    assert (tally.duplicates, tally.damaged, tally.lost, tally.times()) == (1, 1, 1, [0.2])
    ranked = [float(one) for one in range(1, 101)]
    assert (percentile(ranked, 0.5), percentile(ranked, 0.95), percentile([], 0.5)) == (50.0, 95.0, None)
