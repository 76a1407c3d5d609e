"""XMODEM, XMODEM-1K and YMODEM against a receiver that was written by itself, over wires that lose, change and double bytes."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

import pytest

from wexicon.core.agenda import Agenda
from wexicon.core.protocol.dialect import OK, Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.protocol.transfers import CANCEL, MOST_TRIES, FileSender
from wexicon.core.tuning import Tuning
from wexicon.rigs.boot_loader import ImageReceiver, crc16

CHAR = 10 / 115_200
FILE = random.Random(7).randbytes(5_000)


class Wire:
    """A receiver, and a wire between it and the sender; `spoil` is what becomes of each byte: none, one or more of them."""

    def __init__(
        self, protocol: str, *, crc: bool = True, spoil: Callable[[int], list[int]] = lambda byte: [byte]
    ) -> None:
        self.agenda = Agenda()
        self.stored = bytearray()
        self.outcome: tuple[int | None, str] | None = None
        self.spoil = spoil
        self.to_sender: list[tuple[float, bytes]] = []
        self.busy = 0.0
        # How much later what the receiver says arrives (seconds).
        self.late: Callable[[], float] = lambda: 0.0
        self.receiver = ImageReceiver(
            self,  # type: ignore[arg-type]
            self.stored.extend,
            lambda size, why: setattr(self, "outcome", (size, why)),
            with_crc=crc,
            named=protocol == "ymodem",
        )

    def after(self, delay: float, action: Callable[[], object]) -> None:
        self.agenda.after(delay, action)

    def say(self, data: bytes, delay: float) -> None:
        """The receiver sends."""
        self.busy = max(self.busy, self.agenda.now + delay + self.late()) + len(data) * CHAR
        spoilt = bytes(one for byte in data for one in self.spoil(byte))
        self.agenda.at(self.busy, lambda: self.to_sender.append((self.agenda.now, spoilt)))

    def hear(self, data: bytes) -> None:
        """The sender sends."""
        spoilt = bytes(one for byte in data for one in self.spoil(byte))
        for start in range(0, len(spoilt), 32):
            part = spoilt[start : start + 32]
            at = self.agenda.now + (start + len(part)) * CHAR
            self.agenda.at(at, lambda part=part: None if self.receiver.over else self.receiver.feed(part))  # type: ignore[misc]

    def run(self, sender: FileSender, until: float = 4_000.0, after: float = 100.0) -> None:
        """Drives the sender as the driver does; then some seconds pass."""
        while not sender.done and self.agenda.now < until:
            if data := sender.outgoing(self.agenda.now):
                self.hear(data)
            due = sender.next_time()
            limit = min(due if due is not None else until, until)
            while not self.to_sender:
                upcoming = self.agenda.due()
                if upcoming is None or upcoming > limit:
                    self.agenda.run_until(limit)
                    break
                self.agenda.run_until(upcoming)
            if self.to_sender:
                sender.feed(b"".join(data for _, data in self.to_sender), self.agenda.now)
                self.to_sender.clear()
            else:
                sender.elapse(self.agenda.now)
        self.agenda.run_until(self.agenda.now + after)


def sent(wire: Wire, protocol: str, data: bytes = FILE) -> FileSender:
    sender = FileSender(data, protocol, "quay.img", CHAR, wire.agenda.now)
    wire.run(sender)
    return sender


@pytest.mark.parametrize("size", [0, 1, 127, 128, 129, 1023, 1024, 1025, 5_000, 260 * 128])
@pytest.mark.parametrize(
    ("protocol", "crc"), [("xmodem", True), ("xmodem", False), ("xmodem-1k", True), ("ymodem", True)]
)
def test_a_file_arrives_whole_at_every_size(protocol: str, crc: bool, size: int) -> None:
    wire = Wire(protocol, crc=crc)
    data = (FILE * 8)[:size]
    sender = sent(wire, protocol, data)
    assert not sender.failure and sender.received == size and sender.repeated == 0 and wire.outcome is not None
    assert bytes(wire.stored[:size]) == data and not bytes(wire.stored[size:]).strip(b"\x1a")
    assert wire.outcome == (size if protocol == "ymodem" else None, "")


def test_the_checks_are_those_of_the_standard() -> None:
    # The check value of this CRC in the catalogues.
    assert crc16(b"123456789") == 0x31C3
    assert FileSender(b"", "xmodem", "", CHAR, 0.0)._block(b"123456789".ljust(128, b"\x1a"))[-2:] == crc16(
        b"123456789".ljust(128, b"\x1a")
    ).to_bytes(2, "big")


@pytest.mark.parametrize("protocol", ["xmodem", "xmodem-1k", "ymodem"])
@pytest.mark.parametrize("seed", range(12))
def test_on_a_bad_wire_it_arrives_whole_or_the_failure_is_named(protocol: str, seed: int) -> None:
    chance = random.Random(seed)

    def spoil(byte: int) -> list[int]:
        kind = chance.random()
        if kind < 1e-3:
            return [chance.randrange(256)] if kind < 5e-4 else [] if kind < 8e-4 else [byte, byte]
        return [byte]

    wire = Wire(protocol, spoil=spoil)
    sender = sent(wire, protocol)
    if sender.failure:
        assert (sender.hint and sender.received < len(FILE)) or "end" in sender.failure or "waited" in sender.failure
    else:
        assert bytes(wire.stored[: len(FILE)]) == FILE and wire.outcome and wire.outcome[1] == ""
        assert seed or sender.repeated


@pytest.mark.parametrize("protocol", ["xmodem", "xmodem-1k", "ymodem"])
@pytest.mark.parametrize("seed", range(4))
def test_answers_that_come_late_do_no_harm(protocol: str, seed: int) -> None:
    chance = random.Random(seed)
    wire = Wire(protocol)
    wire.late = lambda: chance.choice((0.0, 0.0, 0.4, 3.0, 12.0))
    sender = sent(wire, protocol)
    if sender.failure:
        assert sender.hint
    else:
        assert bytes(wire.stored[: len(FILE)]) == FILE


def test_some_bad_wires_are_overcome() -> None:
    """The test above may not pass because everything fails."""
    done = 0
    for seed in range(12):
        chance = random.Random(100 + seed)
        wire = Wire("xmodem", spoil=lambda byte, chance=chance: [byte ^ 1] if chance.random() < 1e-3 else [byte])  # type: ignore[misc]
        sender = sent(wire, "xmodem")
        done += not sender.failure and bytes(wire.stored[: len(FILE)]) == FILE and sender.repeated > 0
    assert done >= 10


def test_a_receiver_that_says_nothing_or_cancels_or_goes_on_refusing_is_named() -> None:
    silent = FileSender(FILE, "xmodem", "f", CHAR, 0.0)
    assert silent.outgoing(0.0) == b"" and silent.elapse(59.9) == () and not silent.done
    silent.elapse(60.0)
    assert (
        "waited in vain for the receiver to ask for the first block" in silent.failure and "boot loader" in silent.hint
    )
    refused = FileSender(FILE, "xmodem", "f", CHAR, 0.0)
    refused.feed(b"C", 1.0)
    for turn in range(MOST_TRIES):
        assert refused.outgoing(2.0 + turn)
        refused.feed(b"\x15", 2.5 + turn)
    assert refused.failure == "block 1 was sent 10 times and not acknowledged" and refused.repeated == MOST_TRIES
    cancelled = FileSender(FILE, "xmodem", "f", CHAR, 0.0)
    cancelled.feed(b"C", 1.0)
    cancelled.outgoing(1.0)
    cancelled.feed(b"\x06", 2.0)
    cancelled.outgoing(2.0)
    cancelled.feed(b"\x18", 2.1)
    assert not cancelled.done
    cancelled.feed(b"\x18", 2.2)
    assert cancelled.failure == "the receiver cancelled it after 128 of 5000 bytes"


def test_what_comes_before_a_block_is_on_the_wire_is_no_answer_to_it() -> None:
    sender = FileSender(FILE, "xmodem", "f", CHAR, 0.0)
    sender.feed(b"CCC", 1.0)
    first = sender.outgoing(1.0)
    sender.feed(b"\x06\x06", 1.0 + len(first) * CHAR / 2)
    assert sender.received == 0
    sender.feed(b"\x06", 1.0 + len(first) * CHAR)
    assert sender.received == 128


def test_a_large_block_that_never_arrives_is_sent_as_small_ones() -> None:
    wire = Wire("xmodem-1k", spoil=lambda byte: [byte])
    through = wire.hear
    wire.hear = lambda data: through(data if len(data) < 1024 else data[:500])  # type: ignore[method-assign]
    sender = sent(wire, "xmodem-1k")
    assert not sender.failure and bytes(wire.stored[: len(FILE)]) == FILE and sender.repeated == 3


def test_what_cancels_ends_a_receiver_in_the_middle() -> None:
    wire: Any = Wire("xmodem")
    sender = FileSender(FILE, "xmodem", "f", CHAR, 0.0)
    wire.run(sender, until=0.5, after=1.5)
    wire.hear(CANCEL)
    wire.agenda.run_until(wire.agenda.now + 2)
    assert wire.outcome == (None, "cancelled")


def test_a_receiver_whose_sender_falls_silent_gives_up() -> None:
    wire = Wire("xmodem")
    wire.run(FileSender(FILE, "xmodem", "f", CHAR, 0.0), until=0.3)
    wire.agenda.run_until(wire.agenda.now + 60)
    assert wire.outcome == (None, "nothing more came")


class Port:
    """A link on which all is there at once; `said` is what was written to it."""

    def __init__(self, *parts: bytes) -> None:
        self.name, self.tuning, self.clock = "port", Tuning(115200), self
        self.parts, self.said, self.time = list(parts), b"", 0.0

    def now(self) -> float:
        return self.time

    def write(self, data: bytes) -> None:
        self.said += data

    def read(self, until: float) -> bytes:
        if self.parts:
            return self.parts.pop(0)
        self.time = max(self.time + 0.01, until)
        return b""


def test_a_receiver_that_asks_right_behind_its_answer_is_answered_at_once() -> None:
    # A slow host reads the answer to its command and the request for the first block together.
    port = Port(b"", b"send\r\nC")
    session = Session(port, Dialect(Speech(ok=("send",))))  # type: ignore[arg-type]
    assert session.exchange("L", OK).ok and session.partial == "C"
    sender = FileSender(b"x" * 100, "xmodem", "x", 0.0, port.now())
    port.parts = [b"\x06", b"\x06"]
    session.drive(sender)
    assert not sender.failure and port.time < 1 and session.partial == ""
    # One block, and the end of the file.
    assert port.said.startswith(b"L\r\n\x01\x01\xfe") and port.said.endswith(b"\x04")
