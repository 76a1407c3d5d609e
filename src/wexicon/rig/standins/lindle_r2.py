"""Stand-in Lindle R2: LoRa as a cable, set by a block of bytes while two mode pins are high.

The rule, from its invented datasheet: with MODE0 and MODE1 high it speaks 9600 8N1: 5A 10 gives 5A 90 and the block of eight
bytes, 5A 20 and a block keeps it and gives 5A A0 and the block, 5A 30 gives 5A B0, 52 32 and the firmware. 5A EE is an
error. Block: address (2 bytes), network, channel (862 MHz and 100 kHz times this), rate and parity and air rate packed,
power and relay packed, nought, and the sum of all before. With both pins low, what comes in goes out by radio.
"""

from __future__ import annotations

from typing import Any, ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rig.standin import StandIn

RATES = (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200)
SILENCE = 0.01


def _summed(block: bytes) -> bytes:
    return block[:7] + bytes([sum(block[:7]) & 0xFF])


class LindleR2(StandIn):
    """`flash["block"]` is the block in hexadecimal digits."""

    family = "lindle-r2"
    maker = "Lindle"
    about = "LoRa by a block of bytes and mode pins"
    delivered: ClassVar[dict[str, Any]] = {"block": _summed(bytes([0, 0, 0, 61, 0x62, 0x01, 0, 0])).hex()}
    identity: ClassVar[dict[str, Any]] = {"firmware": 0x14, "serial": "0217"}

    @property
    def block(self) -> bytes:
        return bytes.fromhex(self.flash["block"])

    @property
    def command(self) -> bool:
        return bool(self.pins.get("mode0") and self.pins.get("mode1"))

    def started(self) -> None:
        self.buffer = b""
        self.pin_moved("")

    def pin_moved(self, name: str) -> None:
        packed = self.block[4]
        parity = "NEON"[packed >> 3 & 3]
        self.uart.tuning = Tuning(9600) if self.command else Tuning(RATES[packed >> 5], 8, parity)
        self.buffer = b""

    def operate(self, act: str) -> None:
        if act in ("attention", "release"):
            for pin in ("mode0", "mode1"):
                self.set_pin(pin, act == "attention")
        else:
            super().operate(act)

    def heard(self, data: bytes, began: float) -> None:
        if not self.command:
            self.air.radiate(self, data)
            return
        self.buffer += data
        size = len(self.buffer)
        self.after(SILENCE, lambda: self.done() if len(self.buffer) == size else None)

    def done(self) -> None:
        said, self.buffer = self.buffer, b""
        if said == b"\x5a\x10":
            self.say(b"\x5a\x90" + self.block)
        elif said == b"\x5a\x30":
            self.say(b"\x5a\xb0\x52\x32" + bytes([self.own["firmware"]]) + bytes.fromhex(self.own["serial"]))
        elif said[:2] == b"\x5a\x20" and len(said) == 10 and self.right(said[2:]):
            self.flash["block"] = said[2:].hex()
            self.say(b"\x5a\xa0" + self.block, 0.04)
        else:
            self.say(b"\x5a\xee")

    @staticmethod
    def right(block: bytes) -> bool:
        return (
            block == _summed(block)
            and block[3] <= 80
            and block[4] & 7 <= 5
            and block[4] >> 3 & 3 != 3
            and block[6] == 0
        )

    def reaches(self, other: StandIn) -> bool:
        """Network, channel and air rate must agree, and both must be in data mode."""
        if not isinstance(other, LindleR2) or self.command or other.command:
            return False
        mine, theirs = self.block, other.block
        return mine[2:4] == theirs[2:4] and mine[4] & 7 == theirs[4] & 7
