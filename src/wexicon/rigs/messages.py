"""Short messages of a cellular stand-in: its store, sending, receiving, reports, by the commands of 3GPP TS 27.005.

The rule: a message reaches the module whose SIM has the number, once that is registered and has room; until then the network
keeps it. What is stored is the PDU as it came; text mode is only another way to show it.
"""

from __future__ import annotations

from datetime import timedelta
from typing import ClassVar

from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, ucs2, ucs2_text
from wexicon.rigs.cellular import CellularModule
from wexicon.rigs.modem import INVALID, NOT_FOUND, Cme, Command
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

    def table(self) -> dict[str, Command]:
        return {
            **super().table(),
            "CMGF": self.number("text", (0, 1), "(0,1)"),
            "CSCS": Command(read=lambda: f'"{self.memory["charset"]}"', write=self.set_charset, test='("GSM","UCS2")'),
            "CNMI": Command(
                read=lambda: f"2,{self.memory['notify']},0,{self.memory['reports']},0",
                write=self.set_notify,
                test="(2),(0,1),(0),(0,1),(0)",
            ),
            "CPMS": Command(
                read=lambda: ",".join([f'"SM",{self.filled()}'] * 3),
                write=lambda given: self.tell("+CPMS: " + ",".join([self.filled()] * 3)),
                test='("SM"),("SM"),("SM")',
            ),
            "CMGS": Command(write=self.send, test=""),
            "CMGR": Command(write=self.show, test=""),
            "CMGD": Command(write=self.delete, test=f"(1-{ROOM}),(0-4)"),
            "CMGL": Command(run=lambda: self.show_all([]), write=self.show_all, test="(0-4)"),
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
