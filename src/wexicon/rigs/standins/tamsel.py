"""Stand-ins by Tamsel, Bluetooth: the plug K5 and the follower K6.

The rule of each, from its invented datasheet:

Tamsel K5. Started with the key held, it speaks command mode at 57600 8N1; the key must stay held for a second or the mode is
half (AT and AT+WHO? answer, AT+LABEL? and AT+MATE? say nothing, the rest is ERR 4). Otherwise it is in data mode at the rate,
stop bits and parity it keeps, and says +MATE UP when it is joined, +MATE DOWN when that ends. The first line after the start
is ERR 0. Lines end with CR LF. Settings are kept by AT+KEEP; all are used from the next start on.

Tamsel K6. No line ends. A command is what comes within one second of its first byte, taken as soon as it is one; what is none
by then is forgotten without a word. Answers have no line end either. While a leader is joined all bytes pass through. Settings
are kept at once; a new rate takes effect after its answer. The PIN cannot be read. AT:Q is there from firmware 2.0 on.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.radios import BluetoothModule
from wexicon.rigs.standin import LineEditor

RATES = {"2": 4800, "3": 9600, "4": 19200, "5": 38400, "6": 57600, "7": 115200}
ALLOWED = {
    "label": r"(?s).{1,20}",
    "part": r"[LF]",
    "pass": r"[0-9]{4,8}",
    "mate": r"[0-9A-F]{6}-[0-9A-F]{6}",
    "speed": r"[2-7],[12],[NEO]",
    "join": r"[BAN]",
    "ask": r"[01]",
}
HELP = ("WHO?", "SELF?", "LABEL", "PART", "PASS", "MATE", "SPEED", "JOIN", "ASK", "LOOK", "KEEP", "BOOT", "FRESH")
KEY_TIME = 1.0
LOOK_TIME = 3.0
START_TIME = 0.25


class TamselK5(BluetoothModule):
    """`mode` is off, starting, data, half or whole."""

    family = "tamsel-k5"
    maker = "Tamsel"
    about = "Bluetooth plug, leader or follower, service key"
    keys = ("service",)
    mode = "off"
    factory: ClassVar[dict[str, object]] = {
        "label": "TAMSEL-K5",
        "part": "F",
        "pass": "0000",
        "mate": "",
        "speed": ("3", "1", "N"),
        "join": "B",
        "ask": "1",
    }
    identity: ClassVar[dict[str, object]] = {"address": "02A15C0013F7", "firmware": "1.4", "model": "TAMSEL-K5"}

    def started(self) -> None:
        self.part()
        self.mode = "starting"
        self.fresh = True
        self.editor = LineEditor(self, "\r\n", self.line, lambda: self.answer_error(1))
        rate, stop, parity = self.flash["speed"]
        command = "service" in self.held
        self.uart.tuning = Tuning(57600) if command else Tuning(RATES[rate], 8, parity, int(stop))
        self.after(START_TIME, lambda: self.listen(command))

    def listen(self, command: bool) -> None:
        if not command:
            self.mode = "data"
            if not self.seek():
                self.say("K5 NO MATE\r\n", 0)
                self.after(1.0, self.keep_seeking)
            return
        self.mode = "half"
        if "service" in self.held:
            self.after(KEY_TIME - START_TIME, self.key_held_long_enough)

    def key_held_long_enough(self) -> None:
        if "service" in self.held:
            self.mode = "whole"

    def operate(self, act: str) -> None:
        if act == "attention":
            self.by_hand(
                (0, lambda: self.power(False)),
                (0, lambda: self.key("service", True)),
                (0.2, lambda: self.power(True)),
                (0.2 + KEY_TIME + 0.1, lambda: self.key("service", False)),
            )
        else:
            super().operate(act)

    def heard(self, data: bytes, began: float) -> None:
        if self.mode in ("half", "whole"):
            self.editor.feed(data)
        elif self.joined:
            self.air.radiate(self, data)
        elif self.mode == "data" and b"\n" in data:
            # With no mate there is no receiver for data, and it says so.
            self.say("K5 NO MATE\r\n")

    # -- the air --------------------------------------------------------------------------------------------------

    def leads(self) -> bool:
        return bool(self.flash["part"] == "L")

    def listens(self) -> bool:
        return self.mode == "data"

    def tell_joined(self) -> None:
        self.say("+MATE UP\r\n", 0)

    def tell_parted(self) -> None:
        self.say("+MATE DOWN\r\n", 0)

    def connects(self) -> str:
        return {"B": "bound", "A": "any", "N": "none"}[str(self.flash["join"])]

    def asks(self) -> bool:
        return bool(self.flash["ask"] == "1")

    def pin(self) -> str:
        return str(self.flash["pass"])

    def mate(self) -> str:
        return str(self.flash["mate"])

    def called(self) -> str:
        return str(self.flash["label"])

    # -- commands -----------------------------------------------------------------------------------------------

    def answer(self, *lines: str) -> None:
        self.say("".join(f"{line}\r\n" for line in (*lines, "OK")))

    def answer_error(self, code: int) -> None:
        self.say(f"ERR {code}\r\n")

    def line(self, line: str) -> None:
        if self.fresh:
            self.fresh = False
            self.answer_error(0)
        elif line == "AT":
            self.answer()
        elif line == "AT+WHO?":
            self.answer(f"+WHO {self.own['model']} {self.own['firmware']}")
        elif self.mode == "half":
            if line not in ("AT+LABEL?", "AT+MATE?"):
                self.answer_error(4)
        elif asked := re.fullmatch(r"AT\+(LABEL|PART|PASS|MATE|SPEED|JOIN|ASK|SELF)\?", line):
            self.answer(self.told(asked[1]))
        elif told := re.fullmatch(r"AT\+(LABEL|PART|PASS|MATE|SPEED|JOIN|ASK)=(.*)", line):
            self.take(told[1].lower(), told[2])
        elif line == "AT+HELP":
            self.answer(*(f"+HELP AT+{word}" for word in HELP))
        elif line == "AT+LOOK":
            self.look()
        elif line == "AT+KEEP":
            self.after(0.08, self.keep)
            self.say("OK\r\n", 0.08)
        elif line in ("AT+BOOT", "AT+FRESH"):
            if line == "AT+FRESH":
                self.forget()
            self.answer()
            self.then(self.restart)
        else:
            self.answer_error(2)

    def look(self) -> None:
        """Tells of each module that others can find, and ends after a while."""
        found = self.seen()
        for index, other in enumerate(found):
            told = f"+LOOK {dotted(str(other.own['address']))},{round(self.level(other))},{other.visible_name()}\r\n"
            self.say(told, LOOK_TIME * (index + 1) / (len(found) + 1))
        self.say("OK\r\n", LOOK_TIME)

    def told(self, word: str) -> str:
        if word == "SELF":
            return f"+SELF {dotted(self.own['address'])}"
        kept = self.memory[word.lower()]
        if word == "MATE":
            return f"+MATE={dotted(kept) if kept else dotted('0' * 12)}"
        return f"+{word} {','.join(kept) if word == 'SPEED' else kept}"

    def take(self, word: str, text: str) -> None:
        if not re.fullmatch(ALLOWED[word], text):
            return self.answer_error(3)
        if word == "mate" and self.memory["part"] != "L":
            return self.answer_error(5)
        value: object = text.replace("-", "") if word == "mate" else text
        self.memory[word] = tuple(text.split(",")) if word == "speed" else value
        return self.answer()


def dotted(address: str) -> str:
    """An address as the K5 gives it: groups of one, two and three bytes."""
    return f"{address[:2]}.{address[2:6]}.{address[6:]}"


K6_RATES = {
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
        self.uart.tuning = Tuning(K6_RATES[self.flash["R"]])

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
        forms = {"L": r"(?s).{1,16}", "P": r"[0-9]{4}", "R": "|".join(K6_RATES), "Q": r"[01]", "S": r"[01]"}
        if not re.fullmatch(forms[word], text):
            return f"NO:{word}"
        self.flash[word] = self.memory[word] = text
        if word == "R":
            self.after(self.answers_in, lambda: self.then(self.retune, 0))
        return f"OK:{word}"

    def retune(self) -> None:
        self.uart.tuning = Tuning(K6_RATES[self.flash["R"]])

    # -- the air --------------------------------------------------------------------------------------------------

    def pin(self) -> str:
        return str(self.flash["P"])

    def asks(self) -> bool:
        return bool(self.flash["S"] == "1")

    def called(self) -> str:
        return str(self.flash["L"])
