"""Stand-in Orvane B3: Bluetooth, commands of one letter, an escape that is heard only soon after power-up.

The rule, from its invented datasheet: in the first eight seconds ^^^ (no line end) gives `at your word`. Lines end with CR,
answers with CR LF: ok, or no N. `d` dumps all settings. They take effect with the next start. The module puts a hyphen and the
last four digits of its address behind its name. Addresses are written bare, the last byte first. `x` leaves, `r` restarts.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rig.bluetooth import BluetoothModule
from wexicon.rig.standin import LineEditor

WINDOW = 8.0
RATES = {"e": 2400, "g": 9600, "h": 19200, "k": 38400, "m": 57600, "t": 115200}
FORMS = {"n": r"[ -~]{1,15}", "m": r"[FL]", "p": r"[0-9]{4,6}", "b": "|".join(RATES), "a": r"[0-9A-F]{12}"}


class OrvaneB3(BluetoothModule):
    """`mode` is data or command."""

    family = "orvane-b3"
    maker = "Orvane"
    about = "Bluetooth, escape soon after power-up, short commands"
    factory: ClassVar[dict[str, object]] = {"n": "orvane", "m": "F", "p": "2468", "b": "t", "a": "000000000000"}
    identity: ClassVar[dict[str, object]] = {"address": "02C44E10A2B7", "firmware": "6.15"}

    def started(self) -> None:
        self.mode = "data"
        self.began = self.agenda.now
        self.tail = b""
        self.part()
        self.uart.tuning = Tuning(RATES[self.memory["b"]])
        self.editor = LineEditor(self, "\r", self.line, lambda: self.say("no 1\r\n"))
        self.after(0.5, self.keep_seeking)

    def heard(self, data: bytes, began: float) -> None:
        if self.mode == "command":
            self.editor.feed(data)
            return
        self.tail = (self.tail + data)[-16:]
        if self.tail.endswith(b"^^^") and self.agenda.now - self.began <= WINDOW:
            self.mode = "command"
            self.tail = b""
            self.say("at your word\r\n")
        else:
            self.air.radiate(self, data)

    def operate(self, act: str) -> None:
        self.cycle() if act == "attention" else super().operate(act)

    def line(self, line: str) -> None:
        if line == "d":
            kept = self.flash
            told = [
                f"n={kept['n']}-{self.own['address'][-4:]}",
                f"m={kept['m']}",
                f"b={kept['b']}",
                f"a={kept['a']}",
                f"p={kept['p']}",
                "ok",
            ]
            self.say("".join(f"{one}\r\n" for one in told))
        elif line == "v":
            self.say(f"ORVANE-B3 {self.own['firmware']} {self.own['address']} {self.own['address'][-4:]}\r\nok\r\n")
        elif line == "x":
            self.mode = "data"
            self.say("ok\r\n")
        elif line == "r":
            self.say("ok\r\n")
            self.then(self.restart)
        elif line == "":
            self.say("ok\r\n")
        elif found := re.fullmatch(r"([nmpba]),(.*)", line):
            if self.flash[found[1]] == found[2]:
                self.say("no 0\r\n")
            elif re.fullmatch(FORMS[found[1]], found[2]):
                self.flash[found[1]] = found[2]
                self.say("ok\r\n")
            else:
                self.say("no 3\r\n")
        else:
            self.say("no 2\r\n")

    # -- the air --------------------------------------------------------------------------------------------------

    def leads(self) -> bool:
        return bool(self.memory["m"] == "L")

    def listens(self) -> bool:
        return self.mode == "data"

    def pin(self) -> str:
        return str(self.memory["p"])

    def mate(self) -> str:
        kept = self.memory["a"]
        return "".join(kept[at : at + 2] for at in range(10, -1, -2))

    def called(self) -> str:
        return f"{self.memory['n']}-{self.own['address'][-4:]}"
