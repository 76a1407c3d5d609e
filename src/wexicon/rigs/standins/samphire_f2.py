"""Stand-in Samphire F2: a mesh node that is spoken to in frames.

The rule, from its invented datasheet: a frame is C6 3D, a running number, the length of what follows as two bytes (low byte
first), a kind, a body, and two running sums over all from the number to the body, the first one first. An answer repeats the
number and has the kind with 80 added; a refusal is FF and why. Numbers of several bytes have the low byte first, texts are
filled with zeros. Its own reports have the number 0. A frame whose sums are wrong is not answered.
"""

from __future__ import annotations

import struct
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import StandIn

MARK = b"\xc6\x3d"
LONGEST = 64
RATES = (9600, 57600, 230400)
REFUSED = 0xFF


def sums(data: bytes) -> bytes:
    """Two running sums of bytes."""
    first = second = 0
    for byte in data:
        first = first + byte & 255
        second = second + first & 255
    return bytes([first, second])


class SamphireF2(StandIn):
    """`every` is in seconds; 0: it reports nothing."""

    family = "samphire-f2"
    maker = "Samphire"
    about = "mesh node that is spoken to in frames"
    factory: ClassVar[dict[str, object]] = {
        "name": "f2",
        "channel": 4,
        "power": 10,
        "network": 0x0001,
        "every": 0,
        "offset": -120,
        "rate": 57600,
    }
    identity: ClassVar[dict[str, object]] = {"serial": 0x00A3117C, "firmware": (1, 4)}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["rate"])
        self.buffer = b""
        self.came = self.agenda.now
        self.tell(0, 0x01, b"\x00")
        self.reports = 0
        self.report_later()

    def report_later(self) -> None:
        self.reports += 1
        this, every = self.reports, self.memory["every"]
        if every:
            self.after(every, lambda: self.report() if this == self.reports else None)

    def report(self) -> None:
        """How warm it is, in tenths, and its supply in millivolts."""
        self.tell(0, 0x40, struct.pack("<hH", 215 + self.memory["offset"] // 10, 3300), 0.0)
        self.report_later()

    def tell(self, number: int, kind: int, body: bytes = b"", delay: float | None = None) -> None:
        inner = bytes([number]) + struct.pack("<H", 1 + len(body)) + bytes([kind]) + body
        self.say(MARK + inner + sums(inner), delay)

    def heard(self, data: bytes, began: float) -> None:
        if self.agenda.now - self.came > 0.1:
            self.buffer = b""
        self.came = self.agenda.now
        self.buffer += data
        while (start := self.buffer.find(MARK)) >= 0:
            self.buffer = self.buffer[start:]
            if len(self.buffer) < 5:
                return
            size = int.from_bytes(self.buffer[3:5], "little")
            if not 1 <= size <= LONGEST:
                self.buffer = self.buffer[2:]
                continue
            if len(self.buffer) < 5 + size + 2:
                return
            inner, given = self.buffer[2 : 5 + size], self.buffer[5 + size : 7 + size]
            if sums(inner) == given:
                self.buffer = self.buffer[7 + size :]
                self.command(inner[0], inner[3], inner[4:])
            else:
                self.buffer = self.buffer[2:]
        self.buffer = self.buffer[-1:]

    def command(self, number: int, kind: int, body: bytes) -> None:
        memory = self.memory
        if kind == 0x10 and not body:
            major, minor = self.own["firmware"]
            self.tell(number, 0x90, b"F2" + struct.pack("<IBB", self.own["serial"], major, minor))
        elif kind == 0x20 and not body:
            self.tell(number, 0xA0, memory["name"].encode().ljust(12, b"\0"))
        elif kind == 0x21 and len(body) == 12 and self.right_name(body):
            memory["name"] = body.rstrip(b"\0").decode()
            self.tell(number, 0xA1)
        elif kind == 0x22 and not body:
            radio = (memory["channel"], memory["power"], memory["network"], memory["every"], memory["offset"])
            self.tell(number, 0xA2, struct.pack("<BbHHi", *radio))
        elif kind == 0x23 and len(body) == 10:
            self.radio(number, *struct.unpack("<BbHHi", body))
        elif kind == 0x24 and not body:
            self.tell(number, 0xA4, struct.pack("<I", memory["rate"]))
        elif kind == 0x25 and len(body) == 4 and (rate := int.from_bytes(body, "little")) in RATES:
            memory["rate"] = rate
            self.tell(number, 0xA5)
        elif kind == 0x30 and not body:
            self.keep()
            self.tell(number, 0xB0, delay=0.03)
        elif kind == 0x31 and not body:
            self.tell(number, 0xB1)
            self.then(self.restart)
        else:
            known = kind in (0x10, 0x20, 0x21, 0x22, 0x23, 0x24, 0x25, 0x30, 0x31)
            self.tell(number, REFUSED, bytes([3 if known else 2]))

    @staticmethod
    def right_name(body: bytes) -> bool:
        text = body.rstrip(b"\0")
        return text != b"" and all(0x20 <= byte < 0x7F for byte in text)

    def radio(self, number: int, channel: int, power: int, network: int, every: int, offset: int) -> None:
        if not (0 <= channel <= 15 and -9 <= power <= 20 and 1 <= network <= 0xFFFE and abs(offset) <= 100_000):
            self.tell(number, REFUSED, b"\x03")
            return
        self.memory.update(channel=channel, power=power, network=network, every=every, offset=offset)
        self.report_later()
        self.tell(number, 0xA3)
