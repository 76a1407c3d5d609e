"""Stand-in Cordal G2: cellular, calls and messages.

The rule: messages are those of 3GPP TS 27.005 (text and PDU mode, GSM and UCS2), calls those of V.250 and 27.007; it starts
with a message at 115200 baud. A message reaches the module whose SIM has the number, if that is registered.
"""

from __future__ import annotations

from typing import ClassVar

from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import CharsetFault, ucs2, ucs2_text
from wexicon.rig.cellular import INVALID, NO_NETWORK, NOT_ALLOWED, NOT_FOUND, CellularModule, Cme, Command

SEND_TIME = 1.5
CR, END, CANCEL = 0x0D, 0x1A, 0x1B


class CordalG2(CellularModule):
    """`inbox` holds units as received, by index; `call` is the other side of a call, `dialled` whether this side dialled."""

    family = "cordal-g2"
    model = "CORDAL-G2"
    about = "cellular, calls and messages"
    factory: ClassVar[dict[str, object]] = {**CellularModule.factory, "text": 0, "charset": "GSM", "notify": 0}

    def started(self) -> None:
        self.inbox: dict[int, tuple[str, str]] = {}
        self.reference = 0
        self.call: CordalG2 | None = None
        self.ringing = self.dialled = False
        super().started()

    def table(self) -> dict[str, Command]:
        return {
            **super().table(),
            "CREG": super().table()["CREG"],
            "CMGF": self.number("text", (0, 1), "(0,1)"),
            "CSCS": Command(read=lambda: f'"{self.memory["charset"]}"', write=self.set_charset, test='("GSM","UCS2")'),
            "CNMI": Command(
                read=lambda: f"2,{self.memory['notify']},0,0,0",
                write=lambda given: self.put("notify", given[1:], (0, 1)),
                test="(2),(0,1),(0),(0),(0)",
            ),
            "CLCC": Command(run=self.show_call, test=""),
            "CMGS": Command(write=self.send, test=""),
            "CMGR": Command(write=self.show, test=""),
            "CMGD": Command(write=self.delete, test="(1-20)"),
            "CMGL": Command(run=self.show_all, test="(0-4)"),
        }

    def basic(self, text: str) -> str:
        if text.startswith("D"):
            self.silent = True
            self.dial(text[1:].rstrip(";"))
            return ""
        if text == "A":
            if not self.ringing:
                raise Cme(NOT_ALLOWED)
            self.ringing = False
            return ""
        if text == "H":
            self.hang_up()
            return ""
        return super().basic(text)

    # -- calls --------------------------------------------------------------------------------------------------

    def dial(self, number: str) -> None:
        other = self.air.subscriber(number)
        if self.stat != 1:
            self.say("\r\nNO CARRIER\r\n", 0.5)
            return
        # It takes commands while it calls (V.250, 6.3.1.5): an event or AT+CLCC reports how the call goes.
        self.answer(delay=0.3)
        if not isinstance(other, CordalG2) or other.call or other is self:
            self.say("\r\nBUSY\r\n" if other else "\r\nNO ANSWER\r\n", 2.0)
        else:
            self.call, other.call, other.ringing, self.dialled, other.dialled = other, self, True, True, False
            other.ring(self.own["number"])

    def show_call(self) -> None:
        """The call that there is (27.007, 7.18): whether it comes in, and whether it is active, alerting or incoming."""
        other = self.call
        self.silent = True
        if other is None:
            self.answer()
            return
        rings = self.ringing or other.ringing
        state = 0 if not rings else 3 if self.dialled else 4
        self.answer(f'+CLCC: 1,{int(not self.dialled)},{state},0,0,"{other.own["number"]}",145')

    def ring(self, number: str) -> None:
        if self.ringing:
            self.say(f'\r\nRING\r\n\r\n+CLIP: "{number}",145\r\n', 0.3)
            self.after(2.0, lambda: self.ring(number))

    def stopped(self) -> None:
        self.hang_up()

    def hang_up(self) -> None:
        other, self.call, self.ringing = self.call, None, False
        if other:
            other.call, other.ringing = None, False
            other.say("\r\nNO CARRIER\r\n", 0.1)

    # -- messages -----------------------------------------------------------------------------------------------

    def set_charset(self, given: list[str]) -> None:
        if given[0] not in ("GSM", "UCS2"):
            raise Cme(INVALID)
        self.memory["charset"] = given[0]

    def send(self, given: list[str]) -> None:
        if self.stat != 1:
            raise Cme(NO_NETWORK)
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
                number = self.decoded(told)
                units = pdu.submit(number, self.decoded(text), self.reference)
                if len(units) > 1:
                    raise pdu.PduFault("too long")
            else:
                units = [text]
                if pdu.length(text) != int(told):
                    raise pdu.PduFault("length")
                number = pdu.read(text).number
        except ValueError:
            self.say("\r\n+CMS ERROR: 304\r\n")
            return
        self.reference = (self.reference + 1) % 256
        self.say(f"\r\n+CMGS: {self.reference}\r\n\r\nOK\r\n", SEND_TIME)
        other = self.air.subscriber(number)
        if isinstance(other, CordalG2):
            unit = pdu.deliver(units[0], self.own["number"])
            self.after(SEND_TIME + 0.5, lambda: other.receive(unit))

    def decoded(self, text: str) -> str:
        try:
            return ucs2_text(bytes.fromhex(text)) if self.memory["charset"] == "UCS2" else text
        except CharsetFault as fault:
            raise pdu.PduFault(str(fault)) from None

    def encoded(self, text: str) -> str:
        return ucs2(text).hex().upper() if self.memory["charset"] == "UCS2" else text

    def receive(self, unit: str) -> None:
        index = next(index for index in range(1, 99) if index not in self.inbox)
        self.inbox[index] = ("REC UNREAD", unit)
        if self.memory["notify"]:
            self.say(f'\r\n+CMTI: "SM",{index}\r\n', 0)

    def shown(self, index: int, listed: bool) -> str:
        state, unit = self.inbox[index]
        self.inbox[index] = ("REC READ", unit)
        head = f"+CMGL: {index}," if listed else "+CMGR: "
        if not self.memory["text"]:
            number = {"REC UNREAD": 0, "REC READ": 1}[state]
            return f"{head}{number},,{pdu.length(unit)}\r\n{unit}"
        message = pdu.read(unit)
        stamp = f"{message.stamp[2:10].replace('-', '/')},{message.stamp[11:]}+00"
        return f'{head}"{state}","{self.encoded(message.number)}",,"{stamp}"\r\n{self.encoded(message.text)}'

    def show(self, given: list[str]) -> None:
        if int(given[0]) not in self.inbox:
            raise Cme(NOT_FOUND)
        self.tell(self.shown(int(given[0]), listed=False))

    def show_all(self) -> None:
        self.silent = True
        self.answer(*[self.shown(index, listed=True) for index in sorted(self.inbox)])

    def delete(self, given: list[str]) -> None:
        if self.inbox.pop(int(given[0]), None) is None:
            raise Cme(NOT_FOUND)
