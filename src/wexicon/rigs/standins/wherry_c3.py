"""Stand-in Wherry C3: a beacon with odd answers, which shows what none of the other families does.

The rule, from its invented datasheet: lines end with LF, answers with CR LF. `done` ends every answer; `refused` does where
something is wrong, after a line `because N`. What is not set is answered by `done` alone. `put` keeps at once, but for the
lamp. A code that locks it must be given after each start before anything else; three wrong ones close it for good. A new
speed is repeated, and counts 300 ms after that. After `tidy` it is deaf for a while.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (4800, 9600, 38400, 115200)
REACHES = {"1": "N", "2": "F"}
BECAUSE = {"word": 2, "value": 3, "locked": 8, "closed": 9}
MOVES_AFTER = 0.3
DEAF_FOR = 0.4


class WherryC3(StandIn):
    """`tries` that are left before it is closed outlive the power."""

    family = "wherry-c3"
    maker = "Wherry"
    about = "beacon, answers in its own ways"
    factory: ClassVar[dict[str, object]] = {
        "label": "",
        "partner": "",
        "reach": "1",
        "tick": 5,
        "net": 1,
        "key": "shore",
        "speed": 9600,
        "code": "",
        "tries": 3,
    }
    identity: ClassVar[dict[str, object]] = {"serial": "W-00771", "firmware": "2.2"}

    def started(self) -> None:
        self.deaf = False
        self.lamp = "dark"
        self.open = not self.flash["code"]
        self.uart.tuning = Tuning(self.flash["speed"])
        self.editor = LineEditor(self, "\n", self.line, lambda: self.refuse("word"))
        self.say("wherry c3 afloat\r\n", 0.05)

    def heard(self, data: bytes, began: float) -> None:
        if not self.deaf:
            self.editor.feed(data)

    def tell(self, *lines: str) -> None:
        self.say("".join(f"{line}\r\n" for line in (*lines, "done")))

    def refuse(self, why: str) -> None:
        self.say(f"because {BECAUSE[why]}\r\nrefused\r\n")

    def line(self, line: str) -> None:
        word, _, rest = line.partition(" ")
        if line == "code?":
            self.tell(f"code {'open' if self.open else 'locked'} {self.flash['tries']}")
        elif word == "code":
            self.unlock(rest)
        elif not self.open:
            self.refuse("locked")
        elif line in ("", "who", "tidy", "drop label", "drop partner"):
            self.do(line)
        elif word == "get":
            self.answer(rest)
        elif word == "put":
            self.put(*rest.partition(" ")[::2])
        else:
            self.refuse("word")

    def unlock(self, code: str) -> None:
        if not self.flash["tries"]:
            self.refuse("closed")
        elif code == self.flash["code"]:
            self.open, self.flash["tries"] = True, 3
            self.tell()
        else:
            self.flash["tries"] -= 1
            self.refuse("value")

    def do(self, line: str) -> None:
        if line == "who":
            self.tell(f"I am WHERRY-C3 {self.own['firmware']} {self.own['serial']}")
            return
        if line.startswith("drop "):
            self.flash[line[5:]] = ""
        self.tell()
        if line == "tidy":
            self.then(self.tidy)

    def tidy(self) -> None:
        self.deaf = True
        self.after(DEAF_FOR, lambda: setattr(self, "deaf", False))

    def answer(self, name: str) -> None:
        kept = self.flash
        told: dict[str, str] = {
            "label": '"{}"'.format(kept["label"].replace('"', '""')) if kept["label"] else "",
            "partner": kept["partner"],
            "reach": REACHES[kept["reach"]],
            "tick": str(kept["tick"]),
            "net": str(kept["net"]),
            "lamp": self.lamp,
        }
        if name not in told:
            self.refuse("word")
        else:
            self.tell(*([f"{name} {told[name]}"] if told[name] else []))

    def put(self, name: str, text: str) -> None:
        forms: dict[str, tuple[str, Callable[[re.Match[str]], None]]] = {
            "label": (r'"((?:[^"]|""){1,24})"', lambda f: self.keep_as("label", f[1].replace('""', '"'))),
            "partner": (r"([0-9A-F]{8})", lambda f: self.keep_as("partner", f[1])),
            "reach": (r"([12])", lambda f: self.keep_as("reach", f[1])),
            "tick": (r"([0-9]{1,3})", lambda f: self.put_tick(int(f[1]))),
            "net": (r'([0-9]{1,3}) "([a-z]{4,12})"', lambda f: self.put_net(int(f[1]), f[2])),
            "lamp": (r"(on|off)", lambda f: self.put_lamp(f[1])),
            "speed": (f"({'|'.join(map(str, RATES))})", lambda f: self.put_speed(int(f[1]))),
        }
        form, keep = forms.get(name, ("", lambda found: None))
        if name not in forms:
            self.refuse("word")
        elif found := re.fullmatch(form, text):
            keep(found)
        else:
            self.refuse("value")

    def keep_as(self, name: str, value: object) -> None:
        self.flash[name] = value
        self.tell()

    def put_tick(self, ticks: int) -> None:
        """A tick is four seconds; the network grants no more than a minute of them."""
        self.keep_as("tick", ticks)
        self.say(f"~granted {min(ticks, 15)}\r\n", 0.08)

    def put_net(self, net: int, key: str) -> None:
        self.flash["key"] = key
        self.keep_as("net", net)

    def put_lamp(self, state: str) -> None:
        self.lamp = "lit" if state == "on" else "dark"
        self.tell()

    def put_speed(self, speed: int) -> None:
        self.flash["speed"] = speed
        self.tell(f"speed {speed} soon")
        self.then(lambda: self.after(MOVES_AFTER, lambda: setattr(self.uart, "tuning", Tuning(speed))))


class WherryC1(WherryC3):
    """The older one: it refuses by saying nothing."""

    family = "wherry-c1"
    about = "beacon, refuses by silence"

    def refuse(self, why: str) -> None:
        pass
