"""Stand-in Lindle R2: LoRa as a cable, set by a block of bytes while two mode pins are high.

The rule, from its invented datasheet: with MODE0 and MODE1 high it speaks 9600 8N1: 5A 10 gives 5A 90 and the block of ten
bytes, 5A 20 and a block keeps it and gives 5A A0 and the block, 5A 30 gives 5A B0, 52 32 and the firmware. 5A EE is an
error. Block: power and relay packed, steps of 25 kHz above 860 MHz (2 bytes), frame and air rate packed, rate, network,
address (2 bytes), A5, and all before joined by exclusive or. With both pins low, what comes in goes out by radio.
"""

from __future__ import annotations

from functools import reduce
from operator import xor
from typing import ClassVar

from wexicon.core.engineering.radio import time_on_air
from wexicon.core.tuning import Tuning
from wexicon.rigs.air import Signal
from wexicon.rigs.lora import OVERHEAD, LoraModule, Radio
from wexicon.rigs.standin import StandIn

# Byte 4, in the middle four bits.
RATES = {1: 115200, 2: 57600, 4: 38400, 5: 19200, 7: 9600, 8: 4800, 11: 2400, 13: 1200}
PARITIES = {2: "N", 0: "E", 1: "O"}
POWERS = (2, 5, 8, 11, 13)
AIR_RATES = (3, 4, 5, 6, 7)
# Byte 0, bits 3 and 2: how the module drives its pins. Byte 4, bit 0: the first two bytes of what is sent are an address.
DRIVES = (0, 1, 2)
EVERYBODY = 0xFFFF
SIZE = 10
SILENCE = 0.01
# The most bytes of one packet; a code of byte 0 as a power in dBm.
PACKET = 58
AIR_POWER = {2: 5, 5: 8, 8: 11, 11: 13, 13: 16}


def _summed(block: bytes) -> bytes:
    return block[: SIZE - 1] + bytes([reduce(xor, block[: SIZE - 1])])


class LindleR2(LoraModule):
    """`flash["block"]` is the block in hexadecimal digits; `level` the signal of the last packet in dBm."""

    family = "lindle-r2"
    maker = "Lindle"
    about = "LoRa by a block of bytes and mode pins"
    factory: ClassVar[dict[str, object]] = {
        "block": _summed(bytes([0xB0, 0x01, 0x44, 0x85, 0x1C, 0, 0, 0, 0xA5])).hex()
    }
    mode_pins = ("mode0", "mode1")
    output_pins = ("busy",)
    identity: ClassVar[dict[str, object]] = {"firmware": 0x14, "serial": "0217"}

    @property
    def block(self) -> bytes:
        return bytes.fromhex(self.flash["block"])

    @property
    def command(self) -> bool:
        return bool(self.pins.get("mode0") and self.pins.get("mode1"))

    def started(self) -> None:
        self.buffer = b""
        self.level = 0
        self.drive("busy", False)
        self.pin_moved("")

    def pin_moved(self, name: str) -> None:
        rate, parity = RATES[self.block[4] >> 2 & 15], PARITIES[self.block[3] >> 6]
        self.uart.tuning = Tuning(9600) if self.command else Tuning(rate, 8, parity)
        self.buffer = b""

    def operate(self, act: str) -> None:
        if act in ("attention", "release"):
            for pin in ("mode0", "mode1"):
                self.set_pin(pin, act == "attention")
        else:
            super().operate(act)

    def heard(self, data: bytes, began: float) -> None:
        if not self.command and not self.air.places and not self.block[4] & 1:
            self.air.radiate(self, data)
            return
        self.buffer += data
        size = len(self.buffer)
        ends = self.done if self.command else self.pass_on
        self.after(SILENCE, lambda: ends() if len(self.buffer) == size else None)

    def pass_on(self) -> None:
        """What came is sent in packets, one after the other."""
        data, self.buffer, wait = self.buffer, b"", 0.0
        for start in range(0, len(data), PACKET):
            part = data[start : start + PACKET]
            self.after(wait, lambda part=part: self.send(part))  # type: ignore[misc]
            radio = self.radio()
            wait += time_on_air(OVERHEAD + len(part), radio.spreading, radio.bandwidth)

    def send(self, data: bytes) -> None:
        """Sends one packet: where addresses are used, to the address in its first two bytes."""
        to = None
        if self.block[4] & 1:
            to, data = int.from_bytes(data[:2], "big"), data[2:]

        def received(other: LoraModule, signal: Signal) -> None:
            own = int.from_bytes(other.block[6:8], "big") if isinstance(other, LindleR2) else -1
            if isinstance(other, LindleR2) and to in (None, own, EVERYBODY):
                other.level = round(signal.dbm)
                other.from_air(data, self)

        self.drive("busy", True)
        self.after(self.transmit(len(data), received), lambda: self.drive("busy", False))

    def radio(self) -> Radio:
        block = self.block
        step = int.from_bytes(block[1:3], "big")
        return Radio(860e6 + 25e3 * step, 4 + (block[3] & 0x3F), 250e3, AIR_POWER[block[0] >> 4])

    def done(self) -> None:
        said, self.buffer = self.buffer, b""
        if said == b"\x5a\x10":
            self.say(b"\x5a\x90" + self.block)
        elif said == b"\x5a\x40":
            self.say(b"\x5a\xc0" + bytes([min(255, -self.level)]))
        elif said == b"\x5a\x30":
            self.say(b"\x5a\xb0\x52\x32" + bytes([self.own["firmware"]]) + bytes.fromhex(self.own["serial"]))
        elif said[:2] == b"\x5a\x20" and len(said) == 2 + SIZE and self.right(said[2:]):
            self.flash["block"] = said[2:].hex()
            self.say(b"\x5a\xa0" + self.block, 0.04)
        else:
            self.say(b"\x5a\xee")

    @staticmethod
    def right(block: bytes) -> bool:
        return (
            block == _summed(block)
            and block[0] >> 4 in POWERS
            and block[0] >> 2 & 3 in DRIVES
            and int.from_bytes(block[1:3], "big") <= 400
            and block[3] >> 6 in PARITIES
            and block[3] & 0x3F in AIR_RATES
            and block[4] >> 2 & 15 in RATES
            and not block[4] & 2
            and block[8] == 0xA5
        )

    def reaches(self, other: StandIn) -> bool:
        """Network, channel and air rate must agree, and both must be in data mode."""
        if not isinstance(other, LindleR2) or self.command or other.command:
            return False
        mine, theirs = self.block, other.block
        return _air(mine) == _air(theirs)


def _air(block: bytes) -> tuple[object, ...]:
    """What must agree: frequency, rate on the air, network, error correction."""
    return block[1:3], block[3] & 0x3F, block[5], block[0] & 2
