"""A modem's command line (the syntax of V.250, result codes, echo, prompts, a table of commands), and the SIM of a cellular
one.

The rule: what a command does is its owner's; here it is taken apart, done and answered. A line holds several commands, and the
first that fails ends it (V.250, 5.2.1). What the SIM keeps is in the module's flash; a wrong PIN costs a try in every command
of 3GPP TS 27.007: +CPIN, +CPINR, +CLCK, +CPWD.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, ClassVar, NamedTuple

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (9600, 19200, 38400, 57600, 115200, 230400)
START_RATE = 115200
# 3GPP TS 27.007, 9.2: some numbers of +CME ERROR.
NOT_ALLOWED, NOT_SUPPORTED, NOT_FOUND, NO_NETWORK, INVALID, WRONG_APN = 3, 4, 22, 30, 50, 133


class ModemCommand(NamedTuple):
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


class Modem(StandIn):
    """A module that takes command lines. A command that answers by itself sets `silent`; `payload` takes what follows a
    prompt."""

    model: ClassVar[str] = ""

    def power_up(self) -> None:
        """It starts to take command lines, after a while."""
        self.payload: Callable[[bytes], int] | None = None
        self.silent = False
        self.editor = LineEditor(self, "\r", self.line, lambda: None)
        self.commands = self.table()
        self.uart.tuning = Tuning(START_RATE)
        self.say(f"\r\n{self.model} starts\r\n", 0.05)
        self.deaf = True
        self.after(0.5, self.ready)

    def ready(self) -> None:
        """It takes command lines from now on, at its own rate."""
        self.uart.tuning = Tuning(self.memory["rate"])
        self.deaf = False
        self.say("\r\nRDY\r\n", 0.05)

    def table(self) -> dict[str, ModemCommand]:
        """All extended commands."""
        return {"CLAC": ModemCommand(run=self.list_commands, test="")}

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

    # -- for commands -----------------------------------------------------------------------------------------------

    def number(self, key: str, allowed: tuple[int, ...], test: str) -> ModemCommand:
        """A command that keeps one number."""
        return ModemCommand(
            read=lambda: str(self.memory[key]), write=lambda given: self.put(key, given, allowed), test=test
        )

    def put(self, key: str, given: list[str], allowed: tuple[int, ...]) -> None:
        if int(given[0]) not in allowed:
            raise Cme(INVALID)
        self.memory[key] = int(given[0])

    def refuse(self) -> None:
        raise Cme(NOT_ALLOWED)

    def tell(self, *lines: str) -> None:
        """Answers with information lines of its own."""
        self.silent = True
        self.answer(*lines)

    def list_commands(self) -> None:
        self.silent = True
        self.answer(*[f"+{word}" for word in self.commands], "E", "I", "Z", "&F", "&W")

    def set_rate(self, given: list[str]) -> None:
        rate = int(given[0])
        if rate not in RATES:
            raise Cme(INVALID)
        self.memory["rate"] = rate
        self.silent = True
        self.answer()
        self.then(lambda: setattr(self.uart, "tuning", Tuning(rate)))

    def prompt(self, take: Callable[[bytes], int]) -> None:
        """Asks for a payload: `take` is given bytes and reports how many it took, and clears `payload` when it has all."""
        self.silent = True
        self.payload = take
        self.say("\r\n> ")


# 3GPP TS 27.007, 9.2: some numbers of +CME ERROR.
NOT_INSERTED, WANTS_PIN, WANTS_PUK, BROKEN, WRONG = 10, 11, 12, 13, 16
TRIES, PUK_TRIES = 3, 10
# What a SIM keeps in the flash of the stand-in.
FACTORY: dict[str, object] = {"pin": "", "puk": "73198426", "tries": TRIES, "puk_tries": PUK_TRIES, "sim": True}


class Sim:
    """The SIM of one module. An empty PIN: it is not asked for. `open` is whether it was unlocked since the module started."""

    def __init__(self, module: Modem) -> None:
        self._module = module
        self.open = self.inserted and not self.pin

    def _kept(self, name: str) -> Any:
        return self._module.flash[name]

    def _keep(self, **changed: object) -> None:
        self._module.flash.update(changed)
        self._module.memory.update(changed)

    @property
    def pin(self) -> str:
        return str(self._kept("pin"))

    @property
    def inserted(self) -> bool:
        return bool(self._kept("sim"))

    @property
    def tries(self) -> int:
        return int(self._kept("tries"))

    @property
    def puk_tries(self) -> int:
        return int(self._kept("puk_tries"))

    @property
    def state(self) -> str:
        """As +CPIN reports it. Raises Cme if there is none, or it is broken for good."""
        if not self.inserted:
            raise Cme(NOT_INSERTED)
        if not self.puk_tries:
            raise Cme(BROKEN)
        return "READY" if self.open else "SIM PUK" if not self.tries else "SIM PIN"

    def require(self) -> None:
        """Raises Cme unless it is unlocked."""
        if (state := self.state) != "READY":
            raise Cme(WANTS_PUK if state == "SIM PUK" else WANTS_PIN)

    def check(self, pin: str) -> None:
        """A PIN is given: the right one gives all tries back. Raises Cme."""
        if not self.tries:
            raise Cme(WANTS_PUK)
        if pin != self.pin:
            self._keep(tries=self.tries - 1)
            raise Cme(WRONG if self.tries else WANTS_PUK)
        self._keep(tries=TRIES)

    def unlock(self, given: list[str]) -> None:
        """+CPIN: the PIN, or the PUK and a new PIN. Raises Cme."""
        state = self.state
        if state == "READY":
            raise Cme(NOT_ALLOWED)
        if state == "SIM PIN":
            self.check(given[0])
        elif given[0] != self._kept("puk"):
            self._keep(puk_tries=self.puk_tries - 1)
            raise Cme(WRONG if self.puk_tries else BROKEN)
        else:
            self._require_form(given[1])
            self._keep(pin=given[1], tries=TRIES, puk_tries=PUK_TRIES)
        self.open = True

    @staticmethod
    def _require_form(pin: str) -> None:
        if not (pin.isascii() and pin.isdigit() and 4 <= len(pin) <= 8):
            raise Cme(WRONG)

    def lock(self, asks: bool, pin: str) -> None:
        """+CLCK: whether a PIN is asked for from now on. Raises Cme."""
        self.require()
        if asks and not self.pin:
            self._require_form(pin)
            self._keep(pin=pin)
        elif not asks and self.pin:
            self.check(pin)
            self._keep(pin="")

    def change(self, before: str, after: str) -> None:
        """+CPWD: another PIN. Raises Cme."""
        self.require()
        if not self.pin:
            raise Cme(NOT_ALLOWED)
        self._require_form(after)
        self.check(before)
        self._keep(pin=after)

    def left(self) -> list[str]:
        """+CPINR: the tries that are left."""
        return [f"+CPINR: SIM PIN,{self.tries}", f"+CPINR: SIM PUK,{self.puk_tries}"]
