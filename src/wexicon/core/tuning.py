"""Rate and frame of one side of a link: what must agree at both ends before a byte is understood.

The rule: a `Tuning` is a value; changing the link means making another one.
"""

from __future__ import annotations

import re

import msgspec

USUAL_RATES = (9600, 115200, 19200, 38400, 57600, 4800, 2400, 1200, 230400, 460800, 921600)
HIGHEST_RATE = 12_000_000
# Flow control of a port: none, by the RTS and CTS lines, by the characters XON and XOFF.
FLOWS = ("none", "rts-cts", "xon-xoff")
_FRAME = re.compile(r"([5-8])([NEO])([12])")


class Tuning(msgspec.Struct, frozen=True):
    """Rate in baud, data bits, parity (N, E, O) and stop bits; where several modules share the line, the `station` that is
    spoken to (None: as delivered)."""

    rate: int = 9600
    bits: int = 8
    parity: str = "N"
    stop: int = 1
    station: int | None = None

    @classmethod
    def of(cls, rate: int, frame: str = "8N1", station: int | None = None) -> Tuning:
        """From a rate and a frame such as `8N1`. Raises ValueError with what is allowed."""
        found = _FRAME.fullmatch(frame.upper())
        if not found:
            raise ValueError(
                f"{frame!r} is not a valid frame: write data bits (5 to 8), parity (N, E, O), stop bits (1, 2): 8N1"
            )
        if not 0 < rate <= HIGHEST_RATE:
            raise ValueError(f"{rate} is not a rate: write a number from 1 to {HIGHEST_RATE} baud")
        return cls(rate, int(found[1]), found[2], int(found[3]), station)

    @property
    def frame(self) -> str:
        """Data bits, parity, stop bits: `8N1`."""
        return f"{self.bits}{self.parity}{self.stop}"

    @property
    def char_bits(self) -> int:
        """Bits on the wire for one character: start, data, parity, stop."""
        return 1 + self.bits + (self.parity != "N") + self.stop

    def wire_time(self, characters: int) -> float:
        """Seconds that `characters` take on the wire, back to back."""
        return characters * self.char_bits / self.rate

    def __str__(self) -> str:
        return f"{self.rate} {self.frame}" + ("" if self.station is None else f" station {self.station}")

    def wired_as(self, other: Tuning) -> bool:
        """Whether the wire is the same: only the station may differ."""
        return (self.rate, self.bits, self.parity, self.stop) == (other.rate, other.bits, other.parity, other.stop)


def frame_of(data: bytes) -> str:
    """The frame of text that was read as 8N1 at its own rate. A module with 7 data bits has its parity, or its second
    stop bit, where we have the eighth bit: of its parity over all eight bits every character reports the same. `8N1` where it
    is plain, and where nothing fits."""
    if len(data) < 2 or max(data) < 0x80:
        return "8N1"
    if min(data) >= 0x80:
        return "7N2"
    ones = {byte.bit_count() & 1 for byte in data}
    return "8N1" if len(ones) > 1 else "7O1" if ones == {1} else "7E1"
