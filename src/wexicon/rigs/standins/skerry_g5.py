"""Stand-in Skerry G5: a harbour gateway with a console for people.

The rule, from its invented datasheet: lines end with CR, answers with CR LF; each character is echoed. It has room for eight
characters and takes one each millisecond: what comes faster is lost. Answers are in colour. `hello` tells a challenge; until
`answer` has the SHA-256 of challenge and word it does nothing else. `show` gives pages of four lines: after each it says
--more--, inverted and with no line end, and waits for a space. Power counts in steps of 1.5 dB, rounded down, and 20 dBm are
the most that its region allows. `keep` saves, `boot` starts it again; a new rate counts from then on.
"""

from __future__ import annotations

import re
from hashlib import sha256
from typing import Any, ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

ROOM, TAKES = 8, 0.001
PAGE = 4
RATES = (9600, 38400, 115200)
STEP, MOST = 1.5, 20.0
MORE, ERASED = "\x1b[7m--more--\x1b[0m", "\r        \r"
GREEN, RED, PLAIN = "\x1b[32m", "\x1b[1;31m", "\x1b[0m"


class SkerryG5(StandIn):
    """`open` once the login was right, until the next start."""

    family = "skerry-g5"
    maker = "Skerry"
    about = "gateway console: login by challenge, pages, colours"
    factory: ClassVar[dict[str, object]] = {
        "label": "g5",
        "power": 13.5,
        "channel": 3,
        "every": 60,
        "beacon": "off",
        "upstream": "192.0.2.10",
        "baud": 115200,
        "word": "",
    }
    identity: ClassVar[dict[str, object]] = {"serial": "SG5-00341", "firmware": "1.8"}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["baud"])
        self.editor = LineEditor(self, "\r", self.line, lambda: self.refuse(1))
        self.room, self.last = 0.0, self.agenda.now
        self.page: list[str] = []
        self.open = not self.memory["word"]
        # Another one after each start.
        self.challenge = sha256(f"{self.own['serial']} {self.agenda.now:.3f}".encode()).hexdigest()[:8]
        self.say("skerry g5 up\r\n", 0.05)

    def heard(self, data: bytes, began: float) -> None:
        now = self.agenda.now
        self.room = max(0.0, self.room - (now - self.last) / TAKES)
        self.last = now
        for byte in data:
            if self.room < ROOM:
                self.room += 1
                self.take(bytes([byte]))

    def take(self, char: bytes) -> None:
        if self.page:
            if char == b" ":
                self.say(ERASED, 0.001)
                self.turn()
            return
        self.say(b"\r\n" if char == b"\r" else char, 0.0002)
        self.editor.feed(char)

    def tell(self, *lines: str) -> None:
        self.say("".join(f"{GREEN}{line}{PLAIN}\r\n" for line in (*lines, "ok")))

    def refuse(self, why: int) -> None:
        self.say(f"{RED}no {why}{PLAIN}\r\n")

    def line(self, line: str) -> None:
        word, _, rest = line.partition(" ")
        if line == "hello":
            state = "open" if self.open else "locked"
            self.tell(f"hello g5 {self.own['firmware']} {self.own['serial']} {state} {self.challenge}")
        elif word == "answer":
            self.login(rest)
        elif line == "":
            self.tell()
        elif not self.open:
            self.refuse(7)
        elif line == "show":
            self.page = [f"{name} {value}" for name, value in self.memory.items() if name != "word"]
            self.turn()
        elif word == "set":
            self.put(*rest.partition(" ")[::2])
        elif line == "keep":
            self.keep()
            self.tell()
        elif line == "boot":
            self.tell()
            self.then(self.restart)
        else:
            self.refuse(2)

    def turn(self) -> None:
        """The next page."""
        lines, self.page = self.page[:PAGE], self.page[PAGE:]
        text = "".join(f"{GREEN}{line}{PLAIN}\r\n" for line in lines)
        self.say(text + (MORE if self.page else f"{GREEN}ok{PLAIN}\r\n"))

    def login(self, answer: str) -> None:
        right = sha256(f"{self.challenge}{self.memory['word']}".encode()).hexdigest()
        if answer.lower() != right:
            self.refuse(7)
        else:
            self.open = True
            self.tell()

    def put(self, name: str, text: str) -> None:
        forms: dict[str, str] = {
            "label": "[ -~]{1,16}",
            "power": r"-?[0-9]{1,2}(\.[0-9])?",
            "channel": "[0-7]",
            "every": "[0-9]{1,4}",
            "beacon": "on|off",
            "upstream": r"[0-9.]{7,15}",
            "baud": "|".join(map(str, RATES)),
            "word": "[!-~]{4,24}",
        }
        if name not in forms or not re.fullmatch(forms[name], text):
            self.refuse(2 if name not in forms else 3)
            return
        value: Any = text
        if name == "power":
            value = min(float(text), MOST) // STEP * STEP
        elif name in ("channel", "every", "baud"):
            value = int(text)
        self.memory[name] = value
        self.tell()
