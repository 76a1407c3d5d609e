"""Device management of a stand-in: it registers at a server, which reads, writes, executes and observes its objects.

The rule: the module only passes requests on; its host answers each by its message number, within ten seconds. Objects and
resources are named by the public numbers of the registry of lightweight device management, as in /3/0/0. The commands are the
module's own, for no standard has any:

    +XDMS=LIFETIME  registers for so many seconds (0: leaves)       +XDM: REGISTERED,N  UPDATED,N  EXPIRED  LEFT,N  REFUSED
    +XDMU           updates the registration                        +XDM: READ,N,PATH   WRITE,N,PATH,VALUE  EXEC,N,PATH
    +XDMR=N,VALUE   answers request N                                     OBSERVE,N,PATH  LATE,N
    +XDMN=N,VALUE   notifies of what N observes                     +XDM: NOTED,N
"""

from __future__ import annotations

from typing import ClassVar

from wexicon.rigs.cellular import CellularModule
from wexicon.rigs.modem import INVALID, NOT_FOUND, Cme, Command

MANAGED_AFTER, ANSWER_WITHIN, SERVER_TIME = 3.0, 10.0, 0.6
LIFETIME = 86_400


class ManagedModule(CellularModule):
    """`asked` are the requests of the server that are not answered yet, by message number; `observed` what it observes."""

    factory: ClassVar[dict[str, object]] = {**CellularModule.factory, "managed": 1}

    def started(self) -> None:
        self.asked: dict[int, str] = {}
        self.observed: dict[int, str] = {}
        self.message = self.registration_turn = 0
        self.managed = False
        super().started()

    def table(self) -> dict[str, Command]:
        return {
            **super().table(),
            "XDMS": Command(write=self.enrol, test="(0-31536000)"),
            "XDMU": Command(run=self.update_enrolment, test=""),
            "XDMR": Command(write=self.reply, test="number,value"),
            "XDMN": Command(write=self.notify, test="number,value"),
            "XDMA": self.number("managed", (0, 1), "(0,1)"),
        }

    def register(self) -> None:
        super().register()
        if self.registered() and self.memory["managed"]:
            self.after(MANAGED_AFTER, lambda: self._enrolled(LIFETIME, quiet=True))

    def next_message(self) -> int:
        """The number of the next message."""
        self.message += 1
        return self.message

    def tell_of(self, what: str, delay: float = 0.0) -> None:
        """Passes on what comes from the server."""
        self.say(f"\r\n+XDM: {what}\r\n", delay)

    def enrol(self, given: list[str]) -> None:
        """+XDMS: registers at the server, or leaves it."""
        self.need_network(context=True)
        lifetime = int(given[0])
        if not 0 <= lifetime <= 31_536_000:
            raise Cme(INVALID)
        if lifetime:
            self.after(SERVER_TIME, lambda: self._enrolled(lifetime))
        else:
            self.managed, self.asked, self.observed = False, {}, {}
            self.registration_turn += 1
            self.tell_of(f"LEFT,{self.next_message()}", SERVER_TIME)

    def _enrolled(self, lifetime: int, *, quiet: bool = False) -> None:
        server = self.air.management
        if server.refuses:
            if not quiet:
                self.tell_of("REFUSED")
            return
        self.managed = True
        self._lasts(lifetime)
        if not quiet:
            self.tell_of(f"REGISTERED,{self.next_message()}")
        for index, request in enumerate(server.requests()):
            self.after(index * 0.5, lambda request=request: self.ask(request))  # type: ignore[misc]

    def _lasts(self, lifetime: int) -> None:
        self.registration_turn += 1
        turn = self.registration_turn
        self.lifetime = lifetime
        self.after(lifetime, lambda: self._expired(turn))

    def _expired(self, turn: int) -> None:
        if turn == self.registration_turn and self.managed:
            self.managed = False
            self.tell_of("EXPIRED")

    def update_enrolment(self) -> None:
        """+XDMU: the registration lasts its whole lifetime again."""
        if not self.managed:
            raise Cme(NOT_FOUND)
        self._lasts(self.lifetime)
        self.silent = True
        self.answer()
        self.tell_of(f"UPDATED,{self.next_message()}", SERVER_TIME)

    def ask(self, request: str) -> None:
        """The server asks."""
        number = self.next_message()
        self.asked[number] = request
        self.tell_of(request.format(number))
        self.after(ANSWER_WITHIN, lambda: self.late(number))

    def late(self, number: int) -> None:
        if self.asked.pop(number, None):
            self.tell_of(f"LATE,{number}")

    def reply(self, given: list[str]) -> None:
        """+XDMR: the host answers a request."""
        number = int(given[0])
        request = self.asked.pop(number, None)
        if request is None:
            raise Cme(NOT_FOUND)
        if request.startswith("OBSERVE"):
            self.observed[number] = request
        self.air.answered[number] = given[1] if len(given) > 1 else ""

    def notify(self, given: list[str]) -> None:
        """+XDMN: a new value of what the server observes."""
        number = int(given[0])
        if number not in self.observed:
            raise Cme(NOT_FOUND)
        self.air.answered[number] = given[1]
        self.silent = True
        self.answer()
        self.tell_of(f"NOTED,{number}", SERVER_TIME)
