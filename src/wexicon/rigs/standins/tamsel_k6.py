"""Stand-in Tamsel K6: a Bluetooth follower that listens until a peer joins it.

The rule, from its invented datasheet: no line ends. A command is what comes within one second of its first byte, taken
as soon as it is one; what is none by then is forgotten without a word. Answers have no line end either. While a leader is
joined all bytes pass through. Settings are kept at once; a new rate takes effect after its answer. The PIN cannot be read.
AT:Q is there from firmware 2.0 on.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.bluetooth import BluetoothModule

RATES = {
    "Z": 1200,
    "W": 2400,
    "T": 4800,
    "P": 9600,
    "M": 19200,
    "J": 38400,
    "F": 57600,
    "C": 115200,
    "B": 230400,
    "A": 460800,
}
WINDOW = 1.0
SILENCE = 0.03


class TamselK6(BluetoothModule):
    """It is only ever a follower."""

    family = "tamsel-k6"
    maker = "Tamsel"
    about = "Bluetooth follower, no line ends"
    answers_in = 0.02
    factory: ClassVar[dict[str, object]] = {"L": "TAMSEL-K6", "P": "5050", "R": "P", "Q": "0", "S": "1"}
    identity: ClassVar[dict[str, object]] = {"address": "02A15C00218E", "firmware": "2.1"}

    def started(self) -> None:
        self.part()
        self.buffer = b""
        self.turn = 0
        self.uart.tuning = Tuning(RATES[self.flash["R"]])

    def heard(self, data: bytes, began: float) -> None:
        if self.joined:
            self.air.radiate(self, data)
            return
        if not self.buffer:
            self.turn += 1
            turn = self.turn
            self.after(WINDOW, lambda: self.forget_line(turn))
        self.buffer += data
        size = len(self.buffer)
        self.after(SILENCE, lambda: self.command() if len(self.buffer) == size else None)

    def forget_line(self, turn: int) -> None:
        if turn == self.turn:
            self.buffer = b""

    def command(self) -> None:
        text = self.buffer.decode("utf-8", "surrogateescape")
        newer = float(self.own["firmware"]) >= 2.0
        answer = ""
        if text == "AT":
            answer = "OK"
        elif text == "AT:W?":
            answer = f":W=TAMSEL-K6 {self.own['firmware']} {self.own['address']}"
        elif found := re.fullmatch(r"AT:([LRQS])\?", text):
            answer = f":{found[1]}={self.flash[found[1]]}" if found[1] != "Q" or newer else ""
        elif (found := re.fullmatch(r"(?s)AT:([LPRQS])=(.*)", text)) and (found[1] != "Q" or newer):
            answer = self.take(found[1], found[2])
        if answer:
            self.buffer = b""
            self.turn += 1
            self.say(answer)

    def take(self, word: str, text: str) -> str:
        forms = {"L": r"(?s).{1,16}", "P": r"[0-9]{4}", "R": "|".join(RATES), "Q": r"[01]", "S": r"[01]"}
        if not re.fullmatch(forms[word], text):
            return f"NO:{word}"
        self.flash[word] = self.memory[word] = text
        if word == "R":
            self.after(self.answers_in, lambda: self.then(self.retune, 0))
        return f"OK:{word}"

    def retune(self) -> None:
        self.uart.tuning = Tuning(RATES[self.flash["R"]])

    # -- the air --------------------------------------------------------------------------------------------------

    def pin(self) -> str:
        return str(self.flash["P"])

    def asks(self) -> bool:
        return bool(self.flash["S"] == "1")

    def called(self) -> str:
        return str(self.flash["L"])
