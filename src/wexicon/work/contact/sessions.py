"""How sessions are put together: link, clock, dialect, trace, secrets, a way to stop. Every command, the batch and the
rehearsal do it here.

The rule: the trace is open before the first byte is sent, and trace and link are closed however the work ends. The link that
was asked for is tried first, then the one that is stored for the port.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.state import ModuleState
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener, Listeners
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import in_file_names
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.files import private_folder, state_folder
from wexicon.links.lock import split_station
from wexicon.links.port import open_port
from wexicon.records.trace import Record
from wexicon.records.trace_writer import LARGEST_TRACE, PART, Live, TraceWriter
from wexicon.work.contact.attention import PATIENCE
from wexicon.work.contact.ports import named, remembered


def never() -> bool:
    """No stop is requested."""
    return False


class Setup(msgspec.Struct, kw_only=True):
    """How modules on ports are reached. `operator` gives the operator of a port, who is waited for `patience` seconds; `rate`
    and `frame` are tried first, `flow` replaces the lexicon's flow control; `trace` is the trace file (None: a dated one);
    `stopping` reports whether a stop was requested, `listener` is shown each observation. Unless it `keeps` what was
    done, as in a rehearsal, no dated trace and no unfinished work is written down."""

    operator: Callable[[str], Operator] = lambda port: NoOperator()
    patience: float = PATIENCE
    fixture: Fixture = msgspec.field(default_factory=Fixture)
    rate: int | None = None
    frame: str | None = None
    station: int | None = None
    flow: str | None = None
    trace: Path | None = None
    force: bool = False
    stopping: Callable[[], bool] = never
    listener: Listener | None = None
    keeps: bool = True

    def links(self, lexicon: Lexicon | None, port: str) -> list[Tuning]:
        """The links to try first: the one that was asked for, then the one that is stored. Raises CallFault."""
        known = remembered(port)
        found = [known.tuning] if known else []
        if self.rate or self.frame or self.station is not None:
            usual = lexicon.factory if lexicon else found[0] if found else Tuning()
            station = usual.station if self.station is None else self.station
            try:
                found.insert(0, Tuning.of(self.rate or usual.rate, self.frame or usual.frame, station))
            except ValueError as fault:
                raise CallFault(str(fault)) from None
        return found

    def trace_for(self, title: str) -> Path | None:
        """The trace file of a session, if it has one."""
        return self.trace or (dated_trace(title) if self.keeps else None)

    def heard_by(self, listener: Listener) -> Setup:
        """The same, with one more listener."""
        both = Listeners(self.listener, listener) if self.listener else listener
        return msgspec.structs.replace(self, listener=both)


def dated_trace(title: str) -> Path:
    """A new trace file in the state folder, named by the time and its title."""
    name = f"{datetime.now():%Y-%m-%d-%H%M%S-%f}-{in_file_names(title)}.jsonl"
    return private_folder(state_folder() / "traces") / name


class Opening(msgspec.Struct, kw_only=True):
    """What one session has of its own. `dialect` and `tuning` replace the lexicon's; `live` is shown each trace record. With
    `trace_parts` a full trace goes on in a new file, and that many are kept."""

    title: str = "session"
    secrets: Secrets | None = None
    dialect: Dialect | None = None
    tuning: Tuning | None = None
    live: Callable[[Record], None] | None = None
    trace_parts: int = 0

    def dialect_for(self, lexicon: Lexicon | None) -> Dialect:
        return self.dialect or (lexicon.dialect if lexicon else Dialect(Speech()))

    def tuning_for(self, lexicon: Lexicon | None) -> Tuning:
        usual = (lexicon.attention.tuning or lexicon.factory) if lexicon else Tuning()
        return self.tuning or usual


@contextlib.contextmanager
def open_session(
    port: str, lexicon: Lexicon | None, setup: Setup, opening: Opening | None = None
) -> Iterator[tuple[Session, str]]:
    """A session on a port, and its trace file, if it has one. Raises Fault if port or trace cannot be opened."""
    opening = opening or Opening()
    path = setup.trace_for(opening.title)
    flow = setup.flow or (lexicon.flow if lexicon else FLOWS[0])
    with (
        open_port(port, setup.fixture.bridge or opening.tuning_for(lexicon), flow, setup.fixture.idle) as link,
        session_over(link, opening.dialect_for(lexicon), path, setup, opening) as session,
    ):
        session.bound = split_station(port)[1]
        session.known = ModuleState(lexicon, link.tuning)
        if (left := remembered(port)) and lexicon and left.lexicon == named(lexicon):
            session.known.left_so(left.mode, joined=left.joined, at=link.clock.now())
        yield session, str(path or "")


@contextlib.contextmanager
def session_over(
    link: Link, dialect: Dialect, trace: Path | None, setup: Setup, opening: Opening | None = None
) -> Iterator[Session]:
    """A session over an open link, real or virtual, traced if `trace` names a file. Raises Fault."""
    opening = opening or Opening()
    listeners = [setup.listener] if setup.listener else []
    if opening.live:
        listeners.insert(0, Live(opening.live, link.clock.now()))
    writer: TraceWriter | None = None
    if trace is not None:
        speech = dialect.speech
        writer = TraceWriter(
            trace,
            link.clock,
            link=link.name,
            tuning=link.tuning,
            speech=speech,
            most=PART if opening.trace_parts else LARGEST_TRACE,
            parts=opening.trace_parts,
            force=setup.force,
        )
        listeners.insert(0, writer)
    listener = listeners[0] if len(listeners) == 1 else Listeners(*listeners)
    session = Session(link, dialect, listener, setup.stopping, opening.secrets)
    session.fixed = setup.fixture.bridge
    try:
        yield session
        session.listener.flush()
        if writer:
            writer.close()
    finally:
        session.listener.flush()
        if writer:
            with contextlib.suppress(CallFault):  # what ended the session is reported instead
                writer.close()
