"""Stand-in Teasel D3: a logger with a radio on a bus of two wires, where several share the line.

The rule, from its invented datasheet: a line is #, the module's number (two digits), a blank, the text, a blank, * and the sum
of all bytes of number and text as two hexadecimal digits; then CR. What is on the bus is heard by its sender too. Each answer
is followed by a result: 0, or 1 a wrong sum, 2 no such item, 3 a wrong value. Only its own number is answered. The key is shown
but for its last byte. A new number counts once it was acknowledged, a new rate with the next start.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.text import to_bytes
from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (4800, 9600, 57600)
ITEMS = {"1": "name", "2": "key", "3": "gain", "4": "number", "5": "rate", "6": "period"}


def summed(text: str) -> str:
    return f"{sum(to_bytes(text)) & 0xFF:02X}"


class TeaselD3(StandIn):
    """Its settings by their names; `key` in hexadecimal digits."""

    family = "teasel-d3"
    maker = "Teasel"
    about = "logger with a radio, several on one line"
    factory: ClassVar[dict[str, object]] = {
        "name": "d3",
        "key": "0000000000000000",
        "gain": 0,
        "number": 7,
        "rate": 9600,
        "period": 300,
    }
    identity: ClassVar[dict[str, object]] = {"serial": "TD3-0217", "firmware": "2.2"}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["rate"])
        self.editor = LineEditor(self, "\r", self.line, lambda: None)

    def heard(self, data: bytes, began: float) -> None:
        # The bus gives every byte back.
        self.say(data, 0.0)
        self.editor.feed(data)

    def tell(self, *lines: str) -> None:
        text = ""
        for line in lines:
            body = f"{self.memory['number']:02d} {line}"
            text += f"#{body} *{summed(body)}\r\n"
        self.say(text, 0.012)

    def line(self, line: str) -> None:
        found = re.fullmatch(r"#(([0-9]{2}) (.*)) \*([0-9A-F]{2})", line)
        if not found or int(found[2]) != self.memory["number"]:
            return
        if found[4] != summed(found[1]):
            self.tell("1")
            return
        word, _, rest = found[3].partition(" ")
        if found[3] == "who":
            self.tell(f"teasel-d3 {self.own['firmware']} {self.own['serial']}", "0")
        elif word == "get" and rest in ITEMS:
            value = self.memory[ITEMS[rest]]
            self.tell(f"** {value[-2:]}" if rest == "2" else str(value), "0")
        elif word == "put":
            self.put(*rest.partition(" ")[::2])
        elif found[3] == "keep":
            self.keep()
            self.tell("0")
        elif found[3] == "boot":
            self.tell("0")
            self.then(self.restart, 0.012)
        else:
            self.tell("2")

    def put(self, item: str, text: str) -> None:
        forms = {
            "1": "[ -~]{1,12}",
            "2": "[0-9A-F]{16}",
            "3": "-?[0-9]|[12][0-9]|-10|30",
            "4": "0?[1-9]|[1-9][0-9]",
            "5": "|".join(map(str, RATES)),
            "6": "[1-9][0-9]{0,3}",
        }
        if item not in ITEMS or not re.fullmatch(forms[item], text):
            self.tell("3" if item in ITEMS else "2")
            return
        value: object = text if item in "12" else int(text)
        self.tell("0")
        self.memory[ITEMS[item]] = value
