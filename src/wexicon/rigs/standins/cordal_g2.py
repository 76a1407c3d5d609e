"""Stand-in Cordal G2: cellular, calls and messages.

The rule: calls are those of V.250 and 3GPP TS 27.007, messages those of `messages`; it starts with a message at 115200 baud.
"""

from __future__ import annotations

from typing import ClassVar

from wexicon.rigs.messages import MessagingModule
from wexicon.rigs.modem import NOT_ALLOWED, Cme, Command
from wexicon.rigs.network import GSM, LTE

# How long it rings, and how often (seconds).
RINGS_EVERY, RINGS_FOR = 2.0, 40.0


class CordalG2(MessagingModule):
    """`call` is the other side of a call, `dialled` whether this side dialled, `ringing` whether it rings here."""

    family = "cordal-g2"
    model = "CORDAL-G2"
    about = "cellular, calls and messages"
    technologies: ClassVar[tuple[int, ...]] = (LTE, GSM)
    factory: ClassVar[dict[str, object]] = {**MessagingModule.factory, "caller_id": 1}

    def started(self) -> None:
        self.call: CordalG2 | None = None
        self.ringing = self.dialled = False
        super().started()

    def table(self) -> dict[str, Command]:
        return {
            **super().table(),
            "CLCC": Command(run=self.show_call, test=""),
            "CLIP": self.number("caller_id", (0, 1), "(0,1)"),
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
        if not self.registered():
            self.say("\r\nNO CARRIER\r\n", 0.5)
            return
        # It takes commands while it calls (V.250, 6.3.1.5): an event or AT+CLCC reports how the call goes.
        self.answer(delay=0.3)
        if not isinstance(other, CordalG2) or other.call or other is self:
            self.say("\r\nBUSY\r\n" if other else "\r\nNO ANSWER\r\n", 2.0)
        else:
            self.call, other.call, other.ringing, self.dialled, other.dialled = other, self, True, True, False
            other.ring(self.own["number"], RINGS_FOR)

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

    def ring(self, number: str, left: float) -> None:
        """Rings, and reports the caller's number if that is set."""
        if not self.ringing:
            return
        if left <= 0:
            # No answer: the network ends the call on both sides.
            if other := self.call:
                self.call, self.ringing, other.call = None, False, None
                other.say("\r\nNO ANSWER\r\n", 0.1)
            return
        self.say("\r\nRING\r\n" + (f'\r\n+CLIP: "{number}",145\r\n' if self.memory["caller_id"] else ""), 0.3)
        self.after(RINGS_EVERY, lambda: self.ring(number, left - RINGS_EVERY))

    def stopped(self) -> None:
        self.hang_up()

    def hang_up(self) -> None:
        other, self.call, self.ringing = self.call, None, False
        if other:
            other.call, other.ringing = None, False
            other.say("\r\nNO CARRIER\r\n", 0.1)
