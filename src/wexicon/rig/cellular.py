"""What the cellular stand-ins share: the command syntax of V.250 and the commands of 3GPP TS 27.007 that each modem has.

The rule: command words and the form of their answers are those of the open standards; nothing here is any maker's own.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import ClassVar, NamedTuple

from wexicon.core.tuning import Tuning
from wexicon.rig.standin import LineEditor, StandIn

RATES = (9600, 19200, 38400, 57600, 115200, 230400)
START_RATE = 115200
# 3GPP TS 27.007, 9.2: some numbers of +CME ERROR.
NOT_ALLOWED, NOT_SUPPORTED, NOT_FOUND, NO_NETWORK, INVALID = 3, 4, 22, 30, 50


class Command(NamedTuple):
    """One extended command: what +X, +X?, +X=... and +X=? give (None where there is no such form)."""

    run: Callable[[], None] | None = None
    read: Callable[[], str] | None = None
    write: Callable[[list[str]], None] | None = None
    test: str | None = None


class Cme(Exception):
    """An error number of +CME ERROR."""

    def __init__(self, code: int) -> None:
        super().__init__(str(code))
        self.code = code


def fields(text: str) -> list[str]:
    """Parameters of a command: split at commas outside of quotes, the quotes taken off."""
    return [part.strip().strip('"') for part in re.findall(r'"[^"]*"|[^,]+|(?<=,)(?=,|$)|^(?=,)', text)] if text else []


class CellularModule(StandIn):
    """A module with a SIM. `stat` is the registration as +CREG counts: 0 not, 2 searching, 1 home."""

    maker = "Cordal"
    model: ClassVar[str] = ""
    registration: ClassVar[str] = "CREG"
    factory: ClassVar[dict[str, object]] = {"rate": 115200, "errors": 1, "report": 0, "pin": "", "echo": 1, "apn": ""}
    identity: ClassVar[dict[str, object]] = {
        "firmware": "1.00",
        "imei": "001017000000013",
        "imsi": "001010000000013",
        "iccid": "8900100000000000013",
        "number": "+441632960013",
    }

    def started(self) -> None:
        self.stat = 0
        self.unlocked = not self.memory["pin"]
        self.payload: Callable[[bytes], int] | None = None
        self.editor = LineEditor(self, "\r", self.line, lambda: None)
        self.commands = self.table()
        self.uart.tuning = Tuning(START_RATE)
        self.say(f"\r\n{self.model} starts\r\n", 0.05)
        self.deaf = True
        self.after(0.5, self.ready)

    def ready(self) -> None:
        self.uart.tuning = Tuning(self.memory["rate"])
        self.deaf = False
        self.say("\r\nRDY\r\n", 0.05)
        if self.unlocked:
            self.search()

    def search(self) -> None:
        self.stat = 2
        self.after(self.air.network.registers_in, self.register)

    def register(self) -> None:
        self.stat = 1
        if self.memory["report"]:
            self.say(f"\r\n+{self.registration}: 1\r\n", 0)

    def registered(self) -> bool:
        return self.stat == 1

    # -- lines --------------------------------------------------------------------------------------------------

    def heard(self, data: bytes, began: float) -> None:
        if self.deaf:
            return
        if self.memory["echo"] and not self.payload:
            self.uart.send(data)
        while data:
            if self.payload:
                taken = self.payload(data)
                data = data[taken:]
                continue
            # A line may be followed by its payload only after the prompt, so the rest of this burst is lines.
            self.editor.feed(data)
            break

    def answer(self, *lines: str, delay: float | None = None) -> None:
        self.say("".join(f"\r\n{line}\r\n" for line in lines) + "\r\nOK\r\n", delay)

    def error(self, code: int | None = None) -> None:
        kind = self.memory["errors"]
        self.say(f"\r\n+CME ERROR: {code}\r\n" if code is not None and kind else "\r\nERROR\r\n")

    def line(self, line: str) -> None:
        text = line.strip()
        if text[:2].upper() != "AT":
            return
        self.silent = False
        told: list[str] = []
        try:
            # Dialling takes all the rest of the line (V.250, 6.3.1).
            dialled = text[2:3].upper() == "D"
            for part in [text[2:]] if dialled else re.findall(r'\+(?:"[^"]*"|[^;"])+|[^;+]+', text[2:]) or [""]:
                found = self.command(part.strip())
                if found:
                    told.append(found)
        except Cme as fault:
            self.error(fault.code)
            return
        except (ValueError, IndexError, KeyError):
            self.error(INVALID)
            return
        if not self.silent:
            self.answer(*told)

    def command(self, text: str) -> str:
        """Does one command; gives its information line. A command that answers by itself sets `silent`."""
        if not text.startswith("+"):
            return self.basic(text.upper())
        found = re.fullmatch(r"\+([A-Z0-9]+)(\?|=\?|=.*)?", text, re.DOTALL | re.IGNORECASE)
        entry = self.commands.get(found[1].upper()) if found else None
        if not found or not entry:
            raise Cme(NOT_SUPPORTED)
        word, form = found[1].upper(), found[2] or ""
        if form == "=?" and entry.test is not None:
            return f"+{word}: {entry.test}" if entry.test else ""
        if form == "?" and entry.read:
            return f"+{word}: {entry.read()}"
        if form.startswith("=") and form != "=?" and entry.write:
            entry.write(fields(form[1:]))
            return ""
        if not form and entry.run:
            entry.run()
            return ""
        raise Cme(NOT_ALLOWED)

    def basic(self, text: str) -> str:
        """The basic commands of V.250: E, I, Z, &F, &W and none."""
        if text in ("E0", "E1"):
            self.memory["echo"] = int(text[1])
        elif text == "&W":
            self.keep()
        elif text == "&F":
            self.memory.update({key: self.factory[key] for key in ("errors", "report", "echo")})
        elif text == "Z":
            self.memory = {**self.memory, **self.flash}
        elif text == "I":
            return f"{self.model} {self.own['firmware']}"
        elif text:
            raise Cme(NOT_SUPPORTED)
        return ""

    # -- commands -----------------------------------------------------------------------------------------------

    def table(self) -> dict[str, Command]:
        """All extended commands."""
        network = self.air.network
        return {
            "CLAC": Command(run=self.list_commands, test=""),
            "GMI": Command(run=lambda: self.tell(self.maker), test=""),
            "GMM": Command(run=lambda: self.tell(self.model), test=""),
            "GMR": Command(run=lambda: self.tell(self.own["firmware"]), test=""),
            "GSN": Command(run=lambda: self.tell(self.own["imei"]), test=""),
            "CGMI": Command(run=lambda: self.tell(self.maker), test=""),
            "CGMM": Command(run=lambda: self.tell(self.model), test=""),
            "CGMR": Command(run=lambda: self.tell(self.own["firmware"]), test=""),
            "CGSN": Command(run=lambda: self.tell(self.own["imei"]), test=""),
            "CIMI": Command(run=lambda: self.tell(self.need_sim(self.own["imsi"])), test=""),
            "CCID": Command(run=lambda: self.tell(f"+CCID: {self.own['iccid']}"), test=""),
            "CPIN": Command(read=lambda: "READY" if self.unlocked else "SIM PIN", write=self.enter_pin, test=""),
            "CMEE": self.number("errors", (0, 1), "(0,1)"),
            "IPR": Command(
                read=lambda: str(self.memory["rate"]), write=self.set_rate, test=f"(),({','.join(map(str, RATES))})"
            ),
            self.registration: Command(
                read=lambda: f"{self.memory['report']},{self.stat}",
                write=lambda given: self.put("report", given, (0, 1)),
                test="(0,1)",
            ),
            "CSQ": Command(
                run=lambda: self.tell(f"+CSQ: {network.signal if self.stat else 99},99"), test="(0-31,99),(0-7,99)"
            ),
            "COPS": Command(
                read=lambda: f'0,0,"{network.operator}",7' if self.stat == 1 else "0",
                write=lambda given: None if given[0] == "0" else self.refuse(),
                test=f'(1,"{network.operator}","{network.operator[:8]}","{network.code}",7),,(0,1,2),(0,1,2)',
            ),
            "CGATT": Command(read=lambda: str(int(self.stat == 1)), write=self.attach, test="(0,1)"),
            "CGDCONT": Command(
                read=lambda: f'1,"IP","{self.memory["apn"]}"', write=self.set_context, test='(1),"IP",,,(0),(0)'
            ),
            "CGPADDR": Command(
                run=lambda: self.tell("+CGPADDR: 1" + (',"192.0.2.70"' if self.stat == 1 else "")), test="(1)"
            ),
            "CCLK": Command(read=lambda: '"26/03/02,08:00:00+00"', test=""),
            "CFUN": Command(read=lambda: "1", write=self.function, test="(0,1,4),(0,1)"),
        }

    def number(self, key: str, allowed: tuple[int, ...], test: str) -> Command:
        """A command that keeps one number."""
        return Command(read=lambda: str(self.memory[key]), write=lambda given: self.put(key, given, allowed), test=test)

    def put(self, key: str, given: list[str], allowed: tuple[int, ...]) -> None:
        if int(given[0]) not in allowed:
            raise Cme(INVALID)
        self.memory[key] = int(given[0])

    def refuse(self) -> None:
        raise Cme(NOT_ALLOWED)

    def tell(self, line: str) -> None:
        """Answers with an information line of its own."""
        self.silent = True
        self.answer(line)

    def need_sim(self, text: str) -> str:
        if not self.unlocked:
            raise Cme(11)
        return text

    def list_commands(self) -> None:
        self.silent = True
        self.answer(*[f"+{word}" for word in self.commands], "E", "I", "Z", "&F", "&W")

    def enter_pin(self, given: list[str]) -> None:
        if self.unlocked:
            raise Cme(NOT_ALLOWED)
        if given[0] != self.memory["pin"]:
            raise Cme(16)
        self.unlocked = True
        self.search()

    def set_rate(self, given: list[str]) -> None:
        rate = int(given[0])
        if rate not in RATES:
            raise Cme(INVALID)
        self.memory["rate"] = rate
        self.silent = True
        self.answer()
        self.then(lambda: setattr(self.uart, "tuning", Tuning(rate)))

    def attach(self, given: list[str]) -> None:
        if given[0] not in ("0", "1"):
            raise Cme(INVALID)
        if given[0] == "1" and self.stat != 1:
            self.search()

    def set_context(self, given: list[str]) -> None:
        if given[:2] != ["1", "IP"] or not re.fullmatch(r"[A-Za-z0-9.-]{0,63}", given[2]):
            raise Cme(INVALID)
        self.memory["apn"] = given[2]

    def function(self, given: list[str]) -> None:
        if given[0] not in ("0", "1", "4"):
            raise Cme(INVALID)
        if given[1:] == ["1"]:
            self.silent = True
            self.answer()
            self.then(self.restart)
        elif given[0] == "1":
            self.search()
        else:
            self.stat = 0

    def prompt(self, take: Callable[[bytes], int]) -> None:
        """Asks for a payload: `take` is given bytes and reports how many it took, and clears `payload` when it has all."""
        self.silent = True
        self.payload = take
        self.say("\r\n> ")
