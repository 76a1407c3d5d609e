"""Numbered packets that are passed through a link to see what becomes of them: as lines of text, or as bytes of any value.

The rule: a packet counts as received when all of it came as it was sent, by its CRC-32 (ISO/IEC 13239, as zlib computes it).
The layout is our own. What belongs to no packet is counted as strange bytes, never taken for one.
"""

from __future__ import annotations

import random
import re
import struct
from collections.abc import Iterator
from zlib import crc32

import msgspec

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
