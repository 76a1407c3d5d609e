"""Short messages of a cellular stand-in by the commands of 3GPP TS 27.005: its store, sending, receiving, reports; and device
management: it registers at a server, which reads, writes, executes and observes its objects.

The rule: a message reaches the module whose SIM has the number, once that is registered and has room; until then the network
keeps it. What is stored is the PDU as it came; text mode is only another way to show it.

In device management the module only passes requests on; its host answers each by its message number, within ten seconds.
Objects and resources are named by the public numbers of the registry of lightweight device management, as in /3/0/0. The
commands are the module's own, for no standard has any:

    +XDMS=LIFETIME  registers for so many seconds (0: leaves)       +XDM: REGISTERED,N  UPDATED,N  EXPIRED  LEFT,N  REFUSED
    +XDMU           updates the registration                        +XDM: READ,N,PATH   WRITE,N,PATH,VALUE  EXEC,N,PATH
    +XDMR=N,VALUE   answers request N                                     OBSERVE,N,PATH  LATE,N
    +XDMN=N,VALUE   notifies of what N observes                     +XDM: NOTED,N
"""

from __future__ import annotations

from datetime import timedelta
from typing import ClassVar

from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, ucs2, ucs2_text
from wexicon.rigs.cellular import CellularModule
from wexicon.rigs.modem import INVALID, NOT_FOUND, Cme, ModemCommand
from wexicon.rigs.network import EPOCH

SEND_TIME, TRAVELS = 1.5, 0.5
CR, END, CANCEL = 0x0D, 0x1A, 0x1B
ROOM = 20
# 27.005, 3.2.5: some numbers of +CMS ERROR.
BAD_PDU, BAD_TEXT, BAD_INDEX = 304, 305, 321
UNREAD, READ = 0, 1
STATES = ("REC UNREAD", "REC READ", "STO UNSENT", "STO SENT", "ALL")


class MessagingModule(CellularModule):
    """`inbox` holds (state, PDU) by index; `undelivered` what the network keeps for it."""

    factory: ClassVar[dict[str, object]] = {
        **CellularModule.factory,
        "text": 0,
        "charset": "GSM",
        "notify": 0,
        "reports": 0,
        "room": ROOM,
    }

    def __init__(self, *given: object, **named: object) -> None:
        # The SIM keeps messages without power, and the network keeps those that are on their way.
        self.inbox: dict[int, tuple[int, str]] = {}
        self.undelivered: list[str] = []
        super().__init__(*given, **named)  # type: ignore[arg-type]

    def started(self) -> None:
        self.reference = 0
        super().started()

    def table(self) -> dict[str, ModemCommand]:
        return {
            **super().table(),
            "CMGF": self.number("text", (0, 1), "(0,1)"),
            "CSCS": ModemCommand(
                read=lambda: f'"{self.memory["charset"]}"', write=self.set_charset, test='("GSM","UCS2")'
            ),
            "CNMI": ModemCommand(
                read=lambda: f"2,{self.memory['notify']},0,{self.memory['reports']},0",
                write=self.set_notify,
                test="(2),(0,1),(0),(0,1),(0)",
            ),
            "CPMS": ModemCommand(
                read=lambda: ",".join([f'"SM",{self.filled()}'] * 3),
                write=lambda given: self.tell("+CPMS: " + ",".join([self.filled()] * 3)),
                test='("SM"),("SM"),("SM")',
            ),
            "CMGS": ModemCommand(write=self.send, test=""),
            "CMGR": ModemCommand(write=self.show, test=""),
            "CMGD": ModemCommand(write=self.delete, test=f"(1-{ROOM}),(0-4)"),
            "CMGL": ModemCommand(run=lambda: self.show_all([]), write=self.show_all, test="(0-4)"),
        }

    def filled(self) -> str:
        """How many messages there are, and for how many there is room."""
        return f"{len(self.inbox)},{self.memory['room']}"

    def set_charset(self, given: list[str]) -> None:
        if given[0] not in ("GSM", "UCS2"):
            raise Cme(INVALID)
        self.memory["charset"] = given[0]

    def set_notify(self, given: list[str]) -> None:
        """+CNMI: mode, messages, broadcasts, status reports, buffer."""
        self.put("notify", given[1:], (0, 1))
        if len(given) > 3:
            self.put("reports", given[3:], (0, 1))

    # -- sending ------------------------------------------------------------------------------------------------

    def send(self, given: list[str]) -> None:
        self.need_network()
        told = given[0]
        taken = bytearray()

        def take(data: bytes) -> int:
            for count, byte in enumerate(data, 1):
                if byte in (END, CANCEL):
                    self.payload = None
                    self.sent(told, bytes(taken)) if byte == END else self.answer()
                    return count
                taken.append(byte)
                if byte == CR:
                    # Each line of the text is asked for anew.
                    self.say("\r\n> ")
            return len(data)

        self.prompt(take)

    def sent(self, told: str, data: bytes) -> None:
        text = data.decode("utf-8", "replace").strip("\r\n")
        try:
            if self.memory["text"]:
                whole = self.decoded(text)
                if self.memory["charset"] == "GSM":
                    gsm7_codes(whole)
                pdus = pdu.submit(self.decoded(told), whole, self.reference, report=bool(self.memory["reports"]))
                if len(pdus) > 1:
                    raise pdu.PduFault("too long")
            else:
                pdus = [text]
                if pdu.length(text) != int(told):
                    raise pdu.PduFault("length")
            recipient = pdu.read(pdus[0]).number
        except ValueError:
            self.say(f"\r\n+CMS ERROR: {BAD_TEXT if self.memory['text'] else BAD_PDU}\r\n")
            return
        self.reference = (self.reference + 1) % 256
        reference = self.reference
        self.say(f"\r\n+CMGS: {reference}\r\n\r\nOK\r\n", SEND_TIME)
        self.after(SEND_TIME + TRAVELS, lambda: self.passed_on(pdus[0], recipient, reference))

    def passed_on(self, sent: str, recipient: str, reference: int) -> None:
        """The network has it, and takes it to its recipient."""
        other = self.air.owner(recipient)
        if isinstance(other, MessagingModule):
            other.undelivered.append(pdu.deliver(sent, str(self.own["number"]), self.stamp()))
            other.deliver()
        if pdu.wants_report(sent):
            status = 0x00 if isinstance(other, MessagingModule) and not other.undelivered else 0x20 if other else 0x41
            self.report(pdu.status_report(reference, recipient, self.stamp(), status))

    def stamp(self) -> str:
        """The network's time, as semi-octets have it, with a time zone of nothing."""
        return f"{EPOCH + timedelta(seconds=self.agenda.now):%y%m%d%H%M%S}00"

    def report(self, made: str) -> None:
        if self.memory["reports"]:
            self.say(f"\r\n+CDS: {pdu.length(made)}\r\n{made}\r\n", TRAVELS)

    # -- receiving ----------------------------------------------------------------------------------------------

    def deliver(self) -> None:
        """Takes what the network keeps for it, as far as there is room and it can be reached."""
        while self.undelivered and self.powered and self.registered() and len(self.inbox) < self.memory["room"]:
            index = next(index for index in range(1, ROOM + 1) if index not in self.inbox)
            self.inbox[index] = (UNREAD, self.undelivered.pop(0))
            if self.memory["notify"]:
                self.say(f'\r\n+CMTI: "SM",{index}\r\n', 0)
        if self.undelivered and self.powered and self.registered():
            self.say("\r\n+XFULL: 1\r\n", 0)

    def register(self) -> None:
        super().register()
        self.deliver()

    # -- the store ----------------------------------------------------------------------------------------------

    def decoded(self, text: str) -> str:
        try:
            return ucs2_text(bytes.fromhex(text)) if self.memory["charset"] == "UCS2" else text
        except CharsetFault as fault:
            raise pdu.PduFault(str(fault)) from None

    def encoded(self, text: str) -> str:
        return ucs2(text).hex().upper() if self.memory["charset"] == "UCS2" else text

    def shown(self, index: int, listed: bool) -> str:
        state, stored = self.inbox[index]
        self.inbox[index] = (READ, stored)
        head = f"+CMGL: {index}," if listed else "+CMGR: "
        if not self.memory["text"]:
            return f"{head}{state},,{pdu.length(stored)}\r\n{stored}"
        message = pdu.read(stored)
        stamp = f"{message.stamp[2:10].replace('-', '/')},{message.stamp[11:]}+00"
        return f'{head}"{STATES[state]}","{self.encoded(message.number)}",,"{stamp}"\r\n{self.encoded(message.text)}'

    def show(self, given: list[str]) -> None:
        self.sim.require()
        if int(given[0]) not in self.inbox:
            self.silent = True
            self.say(f"\r\n+CMS ERROR: {BAD_INDEX}\r\n")
            return
        self.tell(self.shown(int(given[0]), listed=False))

    def show_all(self, given: list[str]) -> None:
        """+CMGL: all, or those of a state: a number in PDU mode, a word in text mode; the unread if none is named."""
        self.sim.require()
        named = given[0] if given else "0"
        wanted = STATES.index(named) if named in STATES else int(named)
        chosen = [index for index in sorted(self.inbox) if wanted == len(STATES) - 1 or self.inbox[index][0] == wanted]
        self.tell(*[self.shown(index, listed=True) for index in chosen])

    def delete(self, given: list[str]) -> None:
        """+CMGD: one, or by a flag: those that were read (1 to 3), or all (4)."""
        self.sim.require()
        flag = int(given[1]) if len(given) > 1 and given[1] else 0
        if flag:
            self.inbox = {index: one for index, one in self.inbox.items() if flag < 4 and one[0] != READ}
        elif self.inbox.pop(int(given[0]), None) is None:
            raise Cme(NOT_FOUND)
        self.after(1.0, self.deliver)

    def another(self, by: int = 1, *, flash: bool = True) -> None:
        super().another(by, flash=flash)
        self.inbox, self.undelivered = {}, []


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

    def table(self) -> dict[str, ModemCommand]:
        return {
            **super().table(),
            "XDMS": ModemCommand(write=self.enrol, test="(0-31536000)"),
            "XDMU": ModemCommand(run=self.update_enrolment, test=""),
            "XDMR": ModemCommand(write=self.reply, test="number,value"),
            "XDMN": ModemCommand(write=self.notify, test="number,value"),
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
