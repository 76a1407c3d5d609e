"""The parties of a dialogue put together: modules on ports or stand-ins in virtual time, and sockets of this machine.

The rule: all of them share one trace and one set of secrets, and all are closed however the dialogue ends.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.parties import Party
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.link import Clock, Link
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import meant
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.links.port import open_port
from wexicon.links.sockets import open_socket
from wexicon.records.trace_writer import PartyTrace, TraceWriter
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.function.dialogues import DATA, Participant


def lexicons_of(program: Program) -> dict[str, Lexicon | None]:
    """The lexicons of a dialogue's parties, by their names. Raises Fault."""
    folder = Path(program.path).parent
    return {name: find_lexicon(lexicon, folder) if lexicon else None for name, lexicon in program.parties().items()}


def check_ports(program: Program, ports: Mapping[str, str]) -> None:
    """Raises CallFault unless each party has a port of its own."""
    names = program.parties()
    for name in ports:
        if name not in names:
            raise CallFault(f"the dialogue has no party {name}", hint=meant(name, names))
    missing = [name for name in names if name not in ports]
    if missing:
        raise CallFault(f"no port for {', '.join(missing)}", where=program.path, hint=f"Say {missing[0]}=PORT.")
    if len(set(ports.values())) < len(ports):
        raise CallFault("each party needs a port of its own", where=program.path)


class Parties:
    """Those who take part: `modules`, and those that the dialogue opens meanwhile."""

    def __init__(self, stack: ExitStack, setup: Setup, opening: Opening, trace: Path | None, clock: Clock) -> None:
        self.modules: list[Participant] = []
        self.trace = trace
        self._stack, self._setup, self._live = stack, setup, opening.live
        self._secrets = opening.secrets or Secrets()
        self._writer: TraceWriter | None = None
        if trace:
            self._writer = TraceWriter(trace, clock, link="", tuning=Tuning(), force=setup.force)

    def session(self, name: str, link: Link, dialect: Dialect) -> Session:
        """A session of one party, traced with the others'."""
        listener = PartyTrace(self._writer, name, link, dialect, self._live) if self._writer else Listener()
        made = Session(link, dialect, listener, self._setup.stopping, self._secrets)
        made.fixed = self._setup.fixture.bridge
        self._stack.callback(made.listener.flush)
        return made

    def opened(self, name: str, url: str) -> Party:
        """A socket of this machine as a party. Raises LinkFault."""
        link = self._stack.enter_context(open_socket(url))
        return Party(name, self.session(name, link, Dialect(DATA)), is_socket=True)

    def close(self) -> None:
        """Ends the trace. Raises CallFault if its end cannot be written."""
        if self._writer:
            self._writer.close()


class Ending(NamedTuple):
    """A party's name in the dialogue, its port, its lexicon if it has one, and which unit it must be (empty: any)."""

    name: str
    port: str
    lexicon: Lexicon | None
    unit: str = ""

    def open(self, stack: ExitStack, setup: Setup) -> tuple[Link, list[Tuning]]:
        """Its link, open until the stack ends, and the links to try first. Raises Fault."""
        lexicon, likely = self.lexicon, setup.links(self.lexicon, self.port)
        tuning = lexicon.factory if lexicon else (likely or [Tuning()])[0]
        flow = setup.flow or (lexicon.flow if lexicon else FLOWS[0])
        link = open_port(self.port, setup.fixture.bridge or tuning, flow, setup.fixture.idle)
        return stack.enter_context(link), likely


@contextmanager
def parties_on_ports(ends: Sequence[Ending], setup: Setup, opening: Opening) -> Iterator[Parties]:
    """The parties of a dialogue, each on its port. Raises Fault."""
    with ExitStack() as stack:
        links = [one.open(stack, setup) for one in ends]
        made = Parties(stack, setup, opening, setup.trace_for(opening.title), links[0][0].clock)
        for one, (link, likely) in zip(ends, links, strict=True):
            dialect = one.lexicon.dialect if one.lexicon else Dialect(Speech())
            session = made.session(one.name, link, dialect)
            made.modules.append(Participant(one.name, session, one.lexicon, setup.operator(one.port), likely, one.unit))
        yield made
        made.close()
