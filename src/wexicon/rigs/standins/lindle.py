"""Stand-ins by Lindle, LoRa: L9 by commands, R2 by a block of bytes.

The rule of each, from its invented datasheet:

Lindle L9. Lines end with LF, answers with CR LF: @ok, or @err N. @radio takes frequency in hertz (863 to 870 MHz without 869.7
to 869.9, in steps of 100 kHz), spreading factor, bandwidth code and power together. A new rate takes effect right after its
answer. @save keeps. After a start it hears nothing for 120 ms. To address 65535 all are sent to. With @lbt=1 it listens first:
@err 7 while another one sends. @sleep S is deaf for S seconds, then says @awake. Two modules hear each other when frequency,
spreading factor, bandwidth, sync word and network agree.

Lindle R2. With MODE0 and MODE1 high it speaks 9600 8N1: 5A 10 gives 5A 90 and the block of ten bytes, 5A 20 and a block keeps
it and gives 5A A0 and the block, 5A 30 gives 5A B0, 52 32 and the firmware. 5A EE is an error. Block: power and relay packed,
steps of 25 kHz above 860 MHz (2 bytes), frame and air rate packed, rate, network, address (2 bytes), A5, and all before joined
by exclusive or. With both pins low, what comes in goes out by radio.
"""

from __future__ import annotations

import re
from functools import reduce
from operator import xor
from typing import Any, ClassVar

from wexicon.core.engineering.radio import time_on_air
from wexicon.core.tuning import Tuning
from wexicon.rigs.air import ReceivedSignal
from wexicon.rigs.radios import OVERHEAD, LoraModule, Radio
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (9600, 19200, 57600, 115200)
START_TIME = 0.12
EVERYBODY = 65535
BANDWIDTHS = {1: 500_000, 2: 250_000, 4: 125_000}


class LindleL9(LoraModule):
    """Everything is heard at any time; there is no other mode."""

    family = "lindle-l9"
    maker = "Lindle"
    about = "LoRa by commands"
    factory: ClassVar[dict[str, object]] = {
        "name": "L9",
        "addr": 0,
        "net": 1,
        "peer": 0,
        "sync": "12",
        "radio": (868100000, 9, 4, 14),
        "uart": 9600,
        "lbt": 0,
    }
    identity: ClassVar[dict[str, object]] = {"serial": "L9-00417", "firmware": "3.2"}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["uart"])
        self.editor = LineEditor(self, "\n", self.line, lambda: self.error(1))
        self.deaf = True
        self.after(START_TIME, self.listen)

    def listen(self) -> None:
        self.deaf = False

    def awake(self) -> None:
        self.deaf = False
        self.say("@awake\r\n", 0)

    def heard(self, data: bytes, began: float) -> None:
        if not self.deaf:
            self.editor.feed(data)

    def error(self, code: int) -> None:
        self.say(f"@err {code}\r\n")

    def line(self, line: str) -> None:
        if line == "@":
            self.say("@ok\r\n")
        elif line == "@who?":
            self.say(f"@who LINDLE-L9 {self.own['firmware']} {self.own['serial']}\r\n")
        elif line == "@save":
            self.keep()
            self.say("@ok\r\n", 0.1)
        elif line == "@boot":
            self.say("@ok\r\n")
            self.then(self.restart)
        elif found := re.fullmatch(r"@(name|addr|net|peer|sync|uart|radio|lbt)\?", line):
            kept = self.memory[found[1]]
            self.say(f"@{found[1]} {','.join(map(str, kept)) if isinstance(kept, tuple) else kept}\r\n")
        elif found := re.fullmatch(r"@(name|addr|net|peer|sync|uart|radio|lbt)=(.*)", line):
            self.take(found[1], found[2])
        elif found := re.fullmatch(r"@sleep ([0-9]{1,4})", line):
            self.say("@ok\r\n")
            self.then(lambda: setattr(self, "deaf", True))
            self.after(int(found[1]) + self.answers_in, self.awake)
        elif found := re.fullmatch(r"@send ([0-9]{1,5}),(.{1,200})", line):
            self.send(int(found[1]), found[2])
        else:
            self.error(2)

    def take(self, word: str, text: str) -> None:
        value: Any = None
        whole = int(text) if re.fullmatch(r"[0-9]{1,10}", text) else -1
        if (word == "name" and 1 <= len(text) <= 24) or (word == "sync" and re.fullmatch(r"[0-9A-F]{2}", text)):
            value = text
        elif (
            (word in ("addr", "peer") and 0 <= whole <= 65535)
            or (word == "net" and 0 <= whole <= 15)
            or (word == "lbt" and 0 <= whole <= 1)
            or (word == "uart" and whole in RATES)
        ):
            value = whole
        elif word == "radio" and (found := re.fullmatch(r"([0-9]{9}),([0-9]{1,2}),([124]),([0-9]{1,2})", text)):
            hertz, spreading, bandwidth, power = (int(part) for part in found.groups())
            right = (
                863_000_000 <= hertz <= 870_000_000 and not 869_700_000 <= hertz <= 869_900_000 and not hertz % 100_000
            )
            if right and 7 <= spreading <= 12 and 2 <= power <= 20:
                value = (hertz, spreading, bandwidth, power)
        if value is None:
            return self.error(3)
        self.memory[word] = value
        self.say("@ok\r\n")
        if word == "uart":
            self.then(lambda: setattr(self.uart, "tuning", Tuning(int(value))))
        return None

    # -- the air --------------------------------------------------------------------------------------------------

    def send(self, to: int, text: str) -> None:
        """Sends to an address; delivery is not confirmed."""
        own, radio = self.memory["addr"], self.radio()
        if self.memory["lbt"] and self.air.busy(self, radio.frequency, self.agenda.now):
            self.error(7)
            return

        def received(other: LoraModule, signal: ReceivedSignal) -> None:
            if to in (EVERYBODY, other.memory["addr"]) and not getattr(other, "deaf", False):
                shown = f"snr {round(min(signal.snr, 12.0))} rssi {round(signal.dbm)}"
                other.say(f"@air {shown} from {own}: {text}\r\n")

        self.say("@sent\r\n", self.transmit(len(text), received))

    def radio(self) -> Radio:
        hertz, spreading, bandwidth, power = self.memory["radio"]
        return Radio(hertz, spreading, BANDWIDTHS[bandwidth], power)

    def reaches(self, other: StandIn) -> bool:
        mine, theirs = self.memory, other.memory
        if not isinstance(other, LindleL9):
            return False
        return bool(
            mine["radio"][:3] == theirs["radio"][:3] and mine["net"] == theirs["net"] and mine["sync"] == theirs["sync"]
        )


# Byte 4, in the middle four bits.
R2_RATES = {1: 115200, 2: 57600, 4: 38400, 5: 19200, 7: 9600, 8: 4800, 11: 2400, 13: 1200}
PARITIES = {2: "N", 0: "E", 1: "O"}
POWERS = (2, 5, 8, 11, 13)
AIR_RATES = (3, 4, 5, 6, 7)
# Byte 0, bits 3 and 2: how the module drives its pins. Byte 4, bit 0: the first two bytes of what is sent are an address.
DRIVES = (0, 1, 2)
R2_EVERYBODY = 0xFFFF
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
        rate, parity = R2_RATES[self.block[4] >> 2 & 15], PARITIES[self.block[3] >> 6]
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

        def received(other: LoraModule, signal: ReceivedSignal) -> None:
            own = int.from_bytes(other.block[6:8], "big") if isinstance(other, LindleR2) else -1
            if isinstance(other, LindleR2) and to in (None, own, R2_EVERYBODY):
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
            and block[4] >> 2 & 15 in R2_RATES
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
