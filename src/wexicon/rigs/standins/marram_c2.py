"""Stand-in Marram C2: a concentrator whose console asks for a login; three radios are behind it.

The rule, from its invented datasheet: lines end with CR and are echoed. It asks `login: `, and for a name `word: ` until both
are right, unless no word is set. Then each answer ends with its prompt, also a wrong one: `? ` and why. `radio N` chooses which
radio the other commands are for. Each radio has numbered places for networks. `keep` saves all, `boot` starts the concentrator
again; a new rate counts from then on.
"""

from __future__ import annotations

import copy
import re
from typing import Any, ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

RADIOS, PLACES = 3, 4
RATES = (9600, 57600, 115200)
PROMPT = "c2> "
AS_DELIVERED: dict[str, Any] = {"name": "radio", "channel": 1, "power": 10, "places": {}}


class MarramC2(StandIn):
    """`radios` are their settings in the order of their numbers; `user` and `word` those of the login."""

    family = "marram-c2"
    maker = "Marram"
    about = "concentrator with a login, three radios behind it"
    factory: ClassVar[dict[str, Any]] = {
        "radios": [copy.deepcopy(AS_DELIVERED) for _ in range(RADIOS)],
        "rate": 57600,
        "user": "fitter",
        "word": "",
    }
    identity: ClassVar[dict[str, object]] = {"serial": "MC2-0031", "firmware": "1.0"}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["rate"])
        self.editor = LineEditor(self, "\r", self.line, lambda: None)
        self.state = "login" if self.memory["word"] else "in"
        self.user, self.chosen = "", 1
        self.say("marram c2\r\n" + self.prompt(), 0.1)

    def prompt(self) -> str:
        return {"login": "login: ", "word": "word: "}.get(self.state, PROMPT)

    @property
    def radio(self) -> dict[str, Any]:
        found: dict[str, Any] = self.memory["radios"][self.chosen - 1]
        return found

    def heard(self, data: bytes, began: float) -> None:
        for byte in data:
            self.say(b"\r\n" if byte == 0x0D else bytes([byte]) if self.state != "word" else b"", 0.0)
            if byte == 0x0D and not self.editor._buffer:
                self.say(self.prompt())
            self.editor.feed(bytes([byte]))

    def tell(self, *lines: str) -> None:
        self.say("".join(f"{line}\r\n" for line in lines) + self.prompt())

    def line(self, line: str) -> None:
        if self.state == "login":
            self.user, self.state = line, "word"
            self.tell()
        elif self.state == "word":
            right = (self.user, line) == (self.memory["user"], self.memory["word"])
            self.state = "in" if right else "login"
            self.tell("" if right else "no")
        else:
            self.command(*line.partition(" ")[::2])

    def command(self, word: str, rest: str) -> None:
        if word == "id" and not rest:
            own = f"{self.own['serial']}-{self.chosen}"
            self.tell(f"id marram-c2 {self.own['firmware']} {own} radio {self.chosen}")
        elif word == "radio" and re.fullmatch("[1-9]", rest) and int(rest) <= RADIOS:
            self.chosen = int(rest)
            self.tell(f"radio {rest}")
        elif word == "show" and not rest:
            radio = self.radio
            self.tell(
                f"name {radio['name']}",
                f"channel {radio['channel']}",
                f"power {radio['power']}",
                f"rate {self.memory['rate']}",
            )
        elif word == "places" and not rest:
            self.tell(*(f"place {at} {name}" for at, name in sorted(self.radio["places"].items())))
        elif word == "place" and (found := re.fullmatch(f"([1-{PLACES}]) ([a-z.0-9-]{{1,20}})", rest)):
            self.radio["places"] = {**self.radio["places"], int(found[1]): found[2]}
            self.tell()
        elif word == "clear" and re.fullmatch(f"[1-{PLACES}]", rest) and int(rest) in self.radio["places"]:
            self.radio["places"] = {at: name for at, name in self.radio["places"].items() if at != int(rest)}
            self.tell()
        elif word == "set":
            self.put(*rest.partition(" ")[::2])
        elif word == "keep" and not rest:
            self.keep()
            self.tell()
        elif word == "boot" and not rest:
            self.say("going down\r\n")
            self.then(self.restart)
        else:
            self.tell("? no such command")

    def put(self, name: str, text: str) -> None:
        forms = {
            "name": "[ -~]{1,16}",
            "channel": "[1-8]",
            "power": "-?[0-9]|1[0-9]|20",
            "rate": "|".join(map(str, RATES)),
        }
        if name not in forms or not re.fullmatch(forms[name], text):
            self.tell("? not allowed")
            return
        target = self.memory if name == "rate" else self.radio
        target[name] = text if name == "name" else int(text)
        self.tell()
