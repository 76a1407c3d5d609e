"""Devices that are no stand-ins of ours: a few answers, a line end, and the bad manners that make an identity go wrong.

The rule: a device knows nothing of lexicons; what is to be found out about it is written beside it, by hand.
"""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.core.agenda import Agenda
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.observations import Listener
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS, Speech
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.standin import StandIn
from wexicon.rigs.uart import WireFaults


class Device(StandIn):
    """Answers the lines in `answers`, and `unknown` to all others (empty: it is silent). It may echo, answer an empty line
    with `empty`, take `late` seconds for each answer, and send `talks` every `every` seconds."""

    def __init__(
        self,
        answers: Mapping[str, str],
        *,
        end: str = "crlf",
        rate: int = 9600,
        unknown: str = "",
        echoes: bool = False,
        empty: str = "",
        late: float = 0.005,
        talks: str = "",
        every: float = 0.7,
        prompt: str = "",
    ) -> None:
        super().__init__(Agenda(), "device", faults=WireFaults())
        self.answers, self.end, self.unknown, self.empty = answers, LINE_ENDS[end], unknown, empty
        self.echoes, self.late, self.talks, self.every, self.prompt = echoes, late, talks, every, prompt
        self.uart.tuning = Tuning(rate)
        self._line = ""
        self.power(True)

    def started(self) -> None:
        if self.talks:
            self.after(self.every, self._talk)

    def _talk(self) -> None:
        self.uart.send(f"{self.talks}\r\n".encode())
        self.after(self.every, self._talk)

    def heard(self, data: bytes, began: float) -> None:
        if self.echoes:
            self.uart.send(data)
        for char in data.decode("latin-1"):
            self._line += char
            if self._line.endswith(self.end):
                line, self._line = self._line.removesuffix(self.end).strip("\r\n"), ""
                answer = self.answers.get(line, self.unknown) if line else self.empty
                if answer or (line and self.prompt):
                    self.say("".join(f"{each}\r\n" for each in answer.split("\n")) + self.prompt, self.late)

    def session(self, trace: Listener | None = None, rate: int = 9600) -> Session:
        """A session with it in virtual time; it has had power for two seconds."""
        self.agenda.run_until(self.agenda.now + 2)
        link = VirtualLink("device", VirtualClock(self.agenda), self.uart, Tuning(rate))
        self.uart.to_host = link.take
        return Session(link, Dialect(Speech()), trace)
