"""What is passed through a link whole: the numbered packets of a traffic test, and files by XMODEM, XMODEM-1K or YMODEM.

The rule: machines without input or output. A packet counts as received when all of it came as it was sent, by its CRC-32
(ISO/IEC 13239, as zlib computes it); its layout is our own. A block of a file counts when it was acknowledged after all of it
was on the wire; one that is refused or not answered is sent again, MOST_TRIES times at most.

Files as their public descriptions have it: W. Christensen, "XMODEM protocol overview" (1982), and C. Forsberg, "XMODEM/YMODEM
protocol reference" (1988). CRC-16 is that of ITU-T V.41, with the initial value 0.
"""

from __future__ import annotations

import re
import struct
from binascii import crc_hqx
from collections.abc import Iterator, Sequence
from enum import Enum
from zlib import crc32

import msgspec

from wexicon.core.protocol.observations import Heard, Observation, Role, Transferred
from wexicon.core.text import counted, to_text

# A line: mark, way and number, filling, checksum. Bytes: mark, way, number, length of the filling, filling, checksum.
_LINE = re.compile(r"WX([a-z])([0-9]{6,10}) ([!-~]*) ([0-9A-F]{8})")
_MARK = b"\xd7\x58"
_HEAD = struct.Struct(">2sBIB")
_LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz23456789"
LEAST, MOST = 24, 240
_LONGEST_LINE = 1024


class Packet(msgspec.Struct, frozen=True):
    """One that came whole: its way (a letter) and its number on that way."""

    way: str
    number: int


class Damaged(msgspec.Struct, frozen=True):
    """One that came, and not as it was sent."""


class Packets:
    """Makes packets of `size` bytes, and finds them in what comes. `lines` as lines of text, else bytes of any value. `seed`
    goes into the filling and the checksum: packets of an earlier run are none of this one."""

    def __init__(self, size: int, *, lines: bool, seed: int = 1) -> None:
        self.size = size
        self.lines = lines
        self.strange = 0
        import random

        self._random, self._seed = random.Random(seed), seed & 0xFFFFFFFF
        self._held = b""

    def made(self, way: str, number: int) -> bytes:
        """A packet as it is sent; a line with its end."""
        if self.lines:
            return self.text(way, number).encode("ascii") + b"\r\n"
        filling = self._random.randbytes(self.size - _HEAD.size - 4)
        body = _HEAD.pack(_MARK, ord(way), number, len(filling)) + filling
        return body + struct.pack(">I", crc32(body, self._seed))

    def text(self, way: str, number: int) -> str:
        """A packet as a line, without its end."""
        head = f"WX{way}{number:06} "
        filling = "".join(self._random.choices(_LETTERS, k=self.size - len(head) - 9))
        return f"{head}{filling} {crc32((head + filling).encode(), self._seed):08X}"

    def feed(self, data: bytes) -> Iterator[Packet | Damaged]:
        """Returns the packets completed by these bytes."""
        self._held += data
        yield from self._lines() if self.lines else self._frames()

    def line(self, text: str) -> Packet | Damaged | None:
        """What a line is; None where it is none of ours."""
        found = _LINE.fullmatch(text)
        if found and crc32(text[:-9].encode(), self._seed) == int(found[4], 16):
            return Packet(found[1], int(found[2]))
        if "WX" in text or found:
            return Damaged()
        self.strange += len(text)
        return None

    def _lines(self) -> Iterator[Packet | Damaged]:
        *whole, self._held = re.split(rb"[\r\n]+", self._held)
        if len(self._held) > _LONGEST_LINE:
            self.strange += len(self._held)
            self._held = b""
        for line in whole:
            if line and (found := self.line(line.decode("ascii", "replace"))):
                yield found

    def _frames(self) -> Iterator[Packet | Damaged]:
        held = self._held
        while True:
            start = held.find(_MARK)
            if start < 0:
                keep = 1 if held.endswith(_MARK[:1]) else 0
                self.strange += len(held) - keep
                held = held[len(held) - keep :]
                break
            self.strange += start
            held = held[start:]
            if len(held) < _HEAD.size:
                break
            _, way, number, size = _HEAD.unpack_from(held)
            end = _HEAD.size + size + 4
            if len(held) < end and size <= self.size:
                break
            body = held[: end - 4]
            if size <= self.size and held[end - 4 : end] == struct.pack(">I", crc32(body, self._seed)):
                yield Packet(chr(way), number)
                held = held[end:]
                continue
            yield Damaged()
            # The next may begin within what was taken for this one.
            held = held[len(_MARK) :]
        self._held = held


class Tally(msgspec.Struct):
    """What became of the packets of one way: when each was sent, and when it came first; those that came damaged, and again
    (seconds)."""

    sent: dict[int, float] = {}
    came: dict[int, float] = {}
    damaged: int = 0
    duplicates: int = 0

    def receive(self, number: int, at: float) -> bool:
        """A packet came; whether it is the first of its number. One that was never sent is damaged."""
        if number not in self.sent:
            self.damaged += 1
            return False
        if number in self.came:
            self.duplicates += 1
            return False
        self.came[number] = at
        return True

    @property
    def lost(self) -> int:
        """Those that did not come at all; a damaged one came."""
        return max(0, len(self.sent) - len(self.came) - self.damaged)

    def times(self) -> list[float]:
        """How long each took that came (seconds)."""
        return [at - self.sent[number] for number, at in list(self.came.items())]


def percentile(values: list[float], share: float) -> float | None:
    """The quantile at `share` (0 to 1) by nearest rank; None of an empty list."""
    ranked = sorted(values)
    return ranked[max(0, -int(-share * len(ranked) // 1) - 1)] if ranked else None


SOH, STX, EOT, ACK, NAK, CAN = 0x01, 0x02, 0x04, 0x06, 0x15, 0x18
CRC_WANTED = ord("C")
PADDING = b"\x1a"
SMALL, LARGE = 128, 1024
PROTOCOLS = ("xmodem", "xmodem-1k", "ymodem")
# How long the receiver may take to ask for the first block, and to answer one (seconds).
STARTS_WITHIN, ANSWERS_WITHIN = 60.0, 10.0
MOST_TRIES = 10
# After this many tries a large block is sent as small ones.
SMALLER_AFTER = 3
# What makes a receiver give up, whatever it waits for.
CANCEL = bytes([CAN]) * 5


class Stage(Enum):
    """What the sender waits for."""

    START = "the receiver to ask for the first block"
    HEADER = "the answer to the file's name"
    BODY = "the receiver to ask for the file"
    BLOCK = "the answer to a block"
    END = "the answer to the end of the file"
    NEXT_FILE = "the receiver to ask for another file"
    LAST = "the answer to the end of the transfer"
    DONE = "nothing"


class FileSender:
    """Sends `data`; YMODEM tells its `name` and size first. `char_time` is how many seconds a byte takes on the wire.
    `received` is how many bytes of the file were acknowledged, `repeated` how many blocks were sent again."""

    def __init__(self, data: bytes, protocol: str, name: str, char_time: float, now: float) -> None:
        self.data, self.protocol, self.name = data, protocol, name
        self.received = self.repeated = 0
        self.failure = self.hint = ""
        self.stage = Stage.START
        self._char_time = char_time
        self._crc = True
        self._number = 0 if protocol == "ymodem" else 1
        self._size = 0
        self._large = protocol != "xmodem"
        self._waiting: bytes | None = None
        self._tries = 0
        self._cancels = 0
        # Until then what comes is no answer to what is being sent.
        self._on_wire_until = now
        self._deadline = now + STARTS_WITHIN

    # -- the machine ----------------------------------------------------------------------------------------------

    @property
    def done(self) -> bool:
        return self.stage is Stage.DONE

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        seen: list[Observation] = [Heard(now, to_text(data), Role.UNMATCHED)]
        for byte in data:
            self._cancels = self._cancels + 1 if byte == CAN else 0
            if self._cancels > 1:
                self._fail(f"the receiver cancelled it after {self.received} of {counted(len(self.data), 'byte')}")
                self.hint = "It refused the file, or could not store it."
            if self.done:
                break
            if self._waiting is None and now >= self._on_wire_until:
                before = self.received
                self._answered(byte, now)
                if self.received != before:
                    seen.append(Transferred(now, self.received, len(self.data)))
        return seen

    def elapse(self, now: float) -> Sequence[Observation]:
        if self._waiting is None and not self.done and now >= self._deadline:
            if self.stage in (Stage.START, Stage.BODY, Stage.NEXT_FILE):
                self._fail(f"waited in vain for {self.stage.value}")
                self.hint = "Is the boot loader waiting for a file, by this protocol and at this rate?"
            else:
                self._again(now)
        return ()

    def next_time(self) -> float | None:
        return self._deadline

    def outgoing(self, now: float) -> bytes:
        data, self._waiting = self._waiting, None
        if not data:
            return b""
        took = len(data) * self._char_time
        # A receiver's clock may run 3 % faster than ours.
        self._on_wire_until = now + 0.97 * took
        self._deadline = now + took + ANSWERS_WITHIN
        return data

    # -- the protocol ---------------------------------------------------------------------------------------------

    def _answered(self, byte: int, now: float) -> None:
        if self.stage in (Stage.START, Stage.BODY, Stage.NEXT_FILE):
            if byte in (CRC_WANTED, NAK):
                self._asked(byte)
        elif byte == ACK:
            self._acknowledged(now)
        elif byte == NAK:
            self._again(now)

    def _asked(self, byte: int) -> None:
        """The receiver asks: for the name, the file, or what comes next."""
        self._crc = byte == CRC_WANTED
        if self.stage is Stage.NEXT_FILE:
            # There is no other file: a block with an empty name ends the transfer.
            self._number = 0
            self._send(Stage.LAST, self._block(bytes(SMALL)))
        elif self.stage is Stage.START and self.protocol == "ymodem":
            header = self.name.encode("utf-8", "replace") + b"\0" + str(len(self.data)).encode()
            self._send(Stage.HEADER, self._block(header.ljust(SMALL if len(header) <= SMALL else LARGE, b"\0")))
        else:
            self._number = 1
            self._next_block()

    def _acknowledged(self, now: float) -> None:
        if self.stage is Stage.HEADER:
            self.stage, self._deadline = Stage.BODY, now + STARTS_WITHIN
        elif self.stage is Stage.BLOCK:
            self.received = min(len(self.data), self.received + self._size)
            self._number += 1
            self._next_block()
        elif self.stage is Stage.END and self.protocol == "ymodem":
            self.stage, self._deadline = Stage.NEXT_FILE, now + STARTS_WITHIN
        else:
            self.stage = Stage.DONE

    def _next_block(self) -> None:
        if self.received >= len(self.data):
            self._send(Stage.END, bytes([EOT]))
            return
        rest = self.data[self.received :]
        # Without a CRC a receiver has no large blocks.
        self._size = LARGE if self._large and self._crc and len(rest) > SMALL else SMALL
        self._send(Stage.BLOCK, self._block(rest[: self._size].ljust(self._size, PADDING)))

    def _send(self, stage: Stage, data: bytes) -> None:
        self.stage, self._waiting, self._last, self._tries = stage, data, data, 1

    def _block(self, body: bytes) -> bytes:
        """A block: kind, number, its complement, body, sum or CRC."""
        number = self._number % 256
        head = bytes([STX if len(body) == LARGE else SOH, number, 255 - number])
        check = crc_hqx(body, 0).to_bytes(2, "big") if self._crc else bytes([sum(body) % 256])
        return head + body + check

    def _again(self, now: float) -> None:
        """What was sent last was refused, or not answered."""
        self.repeated += 1
        if self._tries >= MOST_TRIES:
            what = f"block {self._number}" if self.stage is Stage.BLOCK else "the end of the file"
            if self.stage is Stage.HEADER:
                what = "the file's name"
            self._fail(f"{what} was sent {MOST_TRIES} times and not acknowledged")
            self.hint = "The link loses too much: try a lower rate, shorter wires, or flow control off."
            return
        tries = self._tries + 1
        if self.stage is Stage.BLOCK and self._size == LARGE and tries > SMALLER_AFTER:
            self._large = False
            self._next_block()
        else:
            self._waiting = self._last
        self._tries = tries

    def _fail(self, why: str) -> None:
        self.failure, self.stage = why, Stage.DONE
