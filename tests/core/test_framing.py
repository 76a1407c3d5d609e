"""Frames are the same however the bytes were cut."""

from __future__ import annotations

from functools import reduce
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.talking import Talk
from wexicon.core.protocol.dialect import Expectation, Want
from wexicon.core.protocol.framing import LONGEST_LINE, Corrupt, Framer, Piece, Prompt
from wexicon.core.protocol.layers import Checksum, Hexadecimal, stacked
from wexicon.core.protocol.patterns import Pattern, PatternFault, block_header
from wexicon.core.protocol.speech import Speech

# What a module sent in one session: echo, events between echo and answer, raw bytes with line ends in them, prompt.
RECORDED = (
    b"AT+POST 0 5\r\r\n+PEER up\r\n> \r\nPOSTED\r\n\r\n+IN 0 7 a\r\nb\r\r> \r\n"
    b"\xffnoise\x00\r\n+IN 1 0 \r\nOK\r\n+IN 2 x\r\n> end"
)
BLOCKS = (block_header(Pattern("+IN {chan:int} {size:int} {data:bytes(size)}")),)
FRAMES = [
    "AT+POST 0 5",
    "+PEER up",
    Prompt("> "),
    "POSTED",
    "+IN 0 7 a\r\nb\r\r>",
    " ",
    "\udcffnoise\x00",
    "+IN 1 0 ",
    "OK",
    "+IN 2 x",
    Prompt("> "),
]


def frames(pieces: list[bytes]) -> list[object]:
    framer = Framer("lines", headers=BLOCKS)  # type: ignore[arg-type]
    framer.prompts = (b"> ",)
    return [frame for now, piece in enumerate(pieces) for frame in framer.feed(piece, float(now))]


def test_every_split_in_two() -> None:
    assert frames([RECORDED]) == FRAMES
    for at in range(len(RECORDED) + 1):
        assert frames([RECORDED[:at], RECORDED[at:]]) == FRAMES, f"cut at {at}"
    assert frames([bytes([byte]) for byte in RECORDED]) == FRAMES


@given(st.lists(st.integers(0, len(RECORDED)), max_size=12))
def test_any_split(cuts: list[int]) -> None:
    places = [0, *sorted(cuts), len(RECORDED)]
    assert frames([RECORDED[a:b] for a, b in pairwise(places)]) == FRAMES


def raised(form: str, pieces: list[Piece]) -> list[Piece]:
    """Pieces of the framer through the layers above it."""
    for layer in stacked(Speech(answer=form)):
        pieces = layer.feed(pieces)
    return pieces


@given(st.binary(max_size=60))
def test_bytes_go_down_and_come_up_as_the_same_hexadecimal(data: bytes) -> None:
    layer = Hexadecimal()
    assert layer.feed([layer.encode(data.hex())]) == [data.hex().upper()]


@given(st.text(st.characters(min_codepoint=0x2B, max_codepoint=0x7E), max_size=60))
def test_a_sentence_that_was_encoded_is_accepted_and_one_changed_digit_is_not(text: str) -> None:
    layer = Checksum()
    line = layer.encode(f"$P{text}")
    assert layer.feed([line]) == [line]
    other = line[:-1] + ("0" if line[-1] != "0" else "1")
    assert layer.feed([other])[-1:] != [other]


@given(st.lists(st.binary(max_size=80)), st.sampled_from(["lines", "sentences", "silence", "bytes"]))
def test_any_bytes_give_frames_and_nothing_is_made_up(pieces: list[bytes], answer: str) -> None:
    framer = Framer(answer, 0.05, BLOCKS)  # type: ignore[arg-type]
    got = [frame for now, piece in enumerate(pieces) for frame in raised(answer, framer.feed(piece, float(now)))]
    sent = reduce(bytes.__add__, pieces, b"")
    for frame in got:
        text = frame if isinstance(frame, str) else frame.text
        assert (bytes.fromhex(text) if answer == "bytes" else text.encode("utf-8", "surrogateescape")) in sent


def test_a_line_without_end_is_cut_once_and_told() -> None:
    framer = Framer()
    got = [frame for _ in range(5) for frame in framer.feed(b"x" * LONGEST_LINE, 0)]
    assert [type(frame) for frame in got] == [Corrupt]
    assert framer.feed(b"tail\r\nOK\r\n", 0) == ["OK"]


def test_silence_ends_an_answer() -> None:
    framer = Framer("silence", 0.06)
    assert framer.feed(b"OKset", 1.00) == []
    assert framer.feed(b"PIN", 1.05) == []
    assert framer.elapse(1.10) == []
    assert framer.elapse(1.12) == ["OKsetPIN"]


@pytest.mark.parametrize(
    ("line", "good"),
    [
        (b"$GPGLL,5057.970,N,00146.110,E,142451,A*27", True),  # as an example of NMEA 0183 sentences has it
        (b"$GPGLL,5057.970,N,00146.110,E,142451,A*28", False),
        (b"$GPGLL,5057.970,N", False),
        (b"OK", True),
    ],
)
def test_sentences_are_checked(line: bytes, good: bool) -> None:
    (frame,) = raised("sentences", Framer("sentences").feed(line + b"\r\n", 0))
    assert isinstance(frame, str) == good


@pytest.mark.parametrize("echo", ["on", "off", "either"])
@pytest.mark.parametrize("cut", range(1, 30))
def test_echo_and_events_are_told_apart_at_any_split(echo: str, cut: int) -> None:
    conversation = Talk(Speech(echo=echo, closing="always"), {"peer": Pattern("+PEER {state:word}")})
    conversation.begin("AT+LABEL?", Expectation((Want(Pattern("+LABEL {value}")),)))
    sent = (b"" if echo == "off" else b"AT+LABEL?\r\r\n") + b"+PEER up\r\n+LABEL quay\r\nOK\r\n+PEER down\r\n"
    conversation.feed(sent[:cut], 0.1)
    conversation.feed(sent[cut:], 0.2)
    assert conversation.outcome and conversation.outcome.ok
    assert conversation.outcome.captures == {"value": "quay"}
    assert [event.values["state"] for event in conversation.engine.events] == ["up", "down"]


def test_a_late_yes_is_not_the_next_commands_yes() -> None:
    conversation = Talk(Speech(closing="always"))
    conversation.begin("AT+SLOW")
    conversation.elapse(1.0)
    assert conversation.outcome and conversation.outcome.status == "silence"
    conversation.feed(b"OK\r\n", 1.1)
    conversation.begin("AT+NEXT", now=1.2)
    assert conversation.outcome is None


def test_what_is_not_whole_is_not_looked_at_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """A block of a megabyte in pieces of 32 bytes: the header is looked at once for the block, not once for each piece."""
    framer = Framer("lines", headers=BLOCKS)  # type: ignore[arg-type]
    looks = 0
    look = framer._block_end

    def counted(at: int) -> int:
        nonlocal looks
        looks += 1
        return look(at)

    monkeypatch.setattr(framer, "_block_end", counted)
    size = 1_000_000
    data = b"+IN 0 %d " % size + b"x" * size
    got = [piece for at in range(0, len(data), 32) for piece in framer.feed(data[at : at + 32], 0)]
    assert len(got) == 1 and len(str(got[0])) == len(data) and looks < 10


@pytest.mark.parametrize("source", ["{x:bytes(0)}", "{x:bytes(5)}"])
def test_raw_bytes_need_something_that_announces_them(source: str) -> None:
    with pytest.raises(PatternFault, match="nothing before them"):
        block_header(Pattern(source))


def test_a_piece_that_was_due_is_given_when_more_comes_late() -> None:
    framer = Framer("silence", 0.06)
    assert framer.feed(b"OK", 1.0) == [] and framer.feed(b"+E 1", 2.0) == ["OK"]
    assert framer.elapse(2.1) == ["+E 1"]


def test_a_large_block_is_whole_however_it_comes() -> None:
    block = b"\n" * (LONGEST_LINE + 500)
    framer = Framer("lines", headers=BLOCKS)  # type: ignore[arg-type]
    assert framer.feed(b"+IN 0 %d " % len(block) + block[:LONGEST_LINE], 0.0) == []
    assert framer.feed(block[LONGEST_LINE : LONGEST_LINE + 100], 0.1) == []
    assert (
        framer.feed(block[LONGEST_LINE + 100 :] + b"\r\nOK\r\n", 0.2)[0] == (b"+IN 0 %d " % len(block) + block).decode()
    )
