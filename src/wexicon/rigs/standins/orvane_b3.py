"""Stand-in Orvane B3: Bluetooth, commands of one letter, an escape that is heard only soon after power-up.

The rule, from its invented datasheet: in the first eight seconds ^^^ (no line end) gives `at your word`. Lines end with CR,
answers with CR LF: ok, or no N. `d` dumps all settings. They take effect with the next start. The module puts a hyphen and the
last four digits of its address behind its name. Addresses are written bare, the last byte first. `x` leaves, `r` restarts,
`h` lists the commands, `s` what can be found. `c` connects, `z` ends that; up and down tell of it, whichever side it was.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.radios import BluetoothModule
from wexicon.rigs.standin import LineEditor

WINDOW = 8.0
RATES = {"e": 2400, "g": 9600, "h": 19200, "k": 38400, "m": 57600, "t": 115200}
FORMS = {
    "n": r"[ -~]{1,15}",
    "m": r"[FL]",
    "p": r"[0-9]{4,6}",
    "b": "|".join(RATES),
    "a": r"[0-9A-F]{12}",
    "k": "[BAN]",
    "q": "[01]",
}
SEARCH_TIME = 3.0
HELP = (
    "v identity,d all settings,n name,m role,p PIN,q PIN asked,b rate,a peer,k connects,"
    "s search,c connect,z disconnect,r restart,x leave"
)


class OrvaneB3(BluetoothModule):
    """`mode` is data or command."""

    family = "orvane-b3"
    maker = "Orvane"
    about = "Bluetooth, escape soon after power-up, short commands"
    factory: ClassVar[dict[str, object]] = {
        "n": "orvane",
        "m": "F",
        "p": "2468",
        "b": "t",
        "a": "000000000000",
        "k": "B",
        "q": "1",
    }
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
                f"k={kept['k']}",
                f"q={kept['q']}",
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
        elif line == "h":
            self.say("".join(f"{one}\r\n" for one in (*HELP.split(","), "ok")))
        elif line == "s":
            self.search()
        elif line == "z":
            self.say("ok\r\n" if self.joined else "no 4\r\n")
            self.after(0.1, self.part)
        elif found := re.fullmatch(r"c(?:,([0-9A-F]{12}))?", line):
            self.connect(reversed_bytes(found[1] or str(self.memory["a"])))
        elif line == "":
            self.say("ok\r\n")
        elif found := re.fullmatch(r"([nmpbakq]),(.*)", line):
            if self.flash[found[1]] == found[2]:
                self.say("no 0\r\n")
            elif re.fullmatch(FORMS[found[1]], found[2]):
                self.flash[found[1]] = found[2]
                self.say("ok\r\n")
            else:
                self.say("no 3\r\n")
        else:
            self.say("no 2\r\n")

    def search(self) -> None:
        """Tells of each module that others can find, and ends after a while."""
        seen = self.seen()
        for index, other in enumerate(seen):
            told = (
                f"s={reversed_bytes(str(other.own['address']))},{round(self.level(other))},{other.visible_name()}\r\n"
            )
            self.say(told, SEARCH_TIME * (index + 1) / (len(seen) + 1))
        self.say("ok\r\n", SEARCH_TIME)

    # -- the air --------------------------------------------------------------------------------------------------

    def leads(self) -> bool:
        return bool(self.memory["m"] == "L")

    def listens(self) -> bool:
        return self.mode == "data"

    def pin(self) -> str:
        return str(self.memory["p"])

    def mate(self) -> str:
        return reversed_bytes(str(self.memory["a"]))

    def connects(self) -> str:
        return {"B": "bound", "A": "any", "N": "none"}[str(self.memory["k"])]

    def asks(self) -> bool:
        return bool(self.memory["q"] == "1")

    def connect(self, address: str) -> None:
        """Connects by command."""
        if not self.leads() or self.joined:
            self.say("no 5\r\n" if not self.joined else "no 6\r\n")
            return
        self.say("ok\r\n")
        self.after(1.0, lambda: None if self.join(address) else self.say("gone\r\n", 0))

    def tell_joined(self) -> None:
        self.say("up\r\n", 0)

    def tell_parted(self) -> None:
        self.say("down\r\n", 0)

    def called(self) -> str:
        return f"{self.memory['n']}-{self.own['address'][-4:]}"


def reversed_bytes(address: str) -> str:
    """An address with its bytes the other way round."""
    return "".join(address[at : at + 2] for at in range(10, -1, -2))
