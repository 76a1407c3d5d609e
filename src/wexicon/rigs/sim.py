"""The SIM in a cellular stand-in: its PIN, the tries that are left, its identity.

The rule: what it keeps outlives the module's power, for it is in the module's flash; a wrong PIN costs a try in every command.
Commands are those of 3GPP TS 27.007: +CPIN, +CPINR, +CLCK, +CPWD.
"""

from __future__ import annotations

from typing import Any

from wexicon.rigs.modem import NOT_ALLOWED, Cme, Modem

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
