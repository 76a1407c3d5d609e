"""Stand-in Lindle L9: LoRa by commands.

The rule, from its invented datasheet: lines end with LF, answers with CR LF: @ok, or @err N. @radio takes frequency in
hertz (863 to 870 MHz without 869.7 to 869.9, in steps of 100 kHz), spreading factor, bandwidth code and power together. A new
rate takes effect right after its answer. @save keeps. After a start it hears nothing for 120 ms. To address 65535 all are sent
to. With @lbt=1 it listens first: @err 7 while another one sends. @sleep S is deaf for S seconds, then says @awake. Two modules
hear each other when frequency, spreading factor, bandwidth, sync word and network agree.
"""

from __future__ import annotations

import re
from typing import Any, ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.air import Signal
from wexicon.rigs.lora import LoraModule, Radio
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

        def received(other: LoraModule, signal: Signal) -> None:
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
