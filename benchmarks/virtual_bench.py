"""One stand-in, one link to it in virtual time, and operators that work it: where work is rehearsed and tried.

The rule: it is the same code that drives a port; only the clock and the wire are others.
"""

from __future__ import annotations

from collections.abc import Callable

from wexicon.core.agenda import Agenda
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import family
from wexicon.rigs.uart import WireFaults


class BenchOperator:
    """Works a stand-in as a person would, and keeps what was asked."""

    switches_power = True
    there = True

    def __init__(self, standin: StandIn) -> None:
        self.standin = standin
        self.asked: list[str] = []

    def ask(self, act: str, text: str) -> None:
        self.asked.append(text)
        self.standin.operate(act)

    def noticed(self) -> None:
        pass

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        self.ask(act, text)

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        # A rig has no eyes for an instrument.
        return None


class VirtualBench:
    """A stand-in that has power, in virtual time."""

    def __init__(self, standin: StandIn, agenda: Agenda, lexicon: Lexicon | None) -> None:
        self.standin = standin
        self.agenda = agenda
        self.lexicon = lexicon
        self.operator = BenchOperator(standin)

    @classmethod
    def of(
        cls,
        name: str,
        lexicon: Lexicon | None,
        *,
        faults: WireFaults | None = None,
        flash: dict[str, object] | None = None,
    ) -> VirtualBench:
        """A bench with a stand-in of a family, with factory defaults but for `flash`."""
        agenda = Agenda()
        standin = family(name)(agenda, settings=flash, faults=faults)
        standin.power(True)
        return cls(standin, agenda, lexicon)

    def link(self, tuning: Tuning | None = None) -> VirtualLink:
        """The host's side of the stand-in's wire."""
        made = VirtualLink(self.standin.name, VirtualClock(self.agenda), self.standin.uart, tuning)
        self.standin.uart.to_host = made.take
        return made

    def dialect(self) -> Dialect:
        """The lexicon's, or that of a recording, or a plain one."""
        return self.lexicon.dialect if self.lexicon else getattr(self.standin, "dialect", None) or Dialect(Speech())

    def session(
        self,
        listener: Listener | None = None,
        stopping: Callable[[], bool] = lambda: False,
        tuning: Tuning | None = None,
        secrets: Secrets | None = None,
    ) -> Session:
        """A session on it, in the lexicon's dialect."""
        return Session(self.link(tuning), self.dialect(), listener, stopping, secrets)
