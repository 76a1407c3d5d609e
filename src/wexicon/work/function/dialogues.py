"""Runs a dialogue, with one module or between several: its parties are modules on ports and sockets of this machine.

The rule: all parties share one trace and one set of secrets, and all are closed however the dialogue ends. What a port sent
that the dialogue did not ask for is shown as it came, with its meaning where the lexicon has one.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.blocks import DialogueFault, Hear, Say
from wexicon.core.dialogue.lines import Statement
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import CallFault
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.reader import Reader
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.link import Clock, Link
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Finished, Heard, Listener
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.results.result import Measurement, Verdict, masked
from wexicon.core.results.unit import DialogueResult
from wexicon.core.text import meant, visible, written
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.links.port import open_port
from wexicon.links.sockets import SocketLink, open_socket
from wexicon.records.trace_writer import PartyTrace, TraceWriter
from wexicon.work.contact.attention import PATIENCE
from wexicon.work.contact.catalog import TransferFiles, find_lexicon
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.contact.symptoms import is_refusal, with_cause
from wexicon.work.module.module import AnotherModule, Module
from wexicon.work.module.opening import LINES, expected

# How data is heard that a party passes on.
DATA = Speech(echo="off")


def with_answers(program: Program, lexicon: Lexicon | None, dialect: Dialect) -> Program:
    """A program of plain lines with what must answer each: as the lexicon has it, or lines up to OK."""
    made: list[Statement] = []
    reader = Reader(lexicon)
    for statement in program.statements:
        if isinstance(statement, Say):
            wants = (expected(reader.read(statement.source), dialect)[0] if lexicon else LINES).wants
            hears = tuple(Hear(want.pattern, want.gather, want.prompt, statement.line) for want in wants)
            made.append(msgspec.structs.replace(statement, hears=hears))
        else:
            made.append(statement)
    return Program(tuple(made), program.path)


def run_dialogue(
    session: Session,
    program: Program,
    values: Mapping[str, object],
    lexicon: Lexicon | None = None,
    operator: Operator | None = None,
    *,
    attention: bool = True,
    likely: Sequence[Tuning] = (),
    patience: float = PATIENCE,
    fixture: Fixture | None = None,
    given: Mapping[str, object] | None = None,
    note: Callable[[str], None] = lambda text: None,
) -> DialogueResult:
    """Runs a dialogue; with a lexicon it gets the module's attention first, unless `attention` is false. Faults end in the
    result."""
    operator = operator or NoOperator()
    if program.plain:
        program = with_answers(program, lexicon, session.dialect)
    module = Module(session, lexicon, operator, patience=patience, fixture=fixture, given=given) if lexicon else None

    def gain() -> None:
        session.begin_step("attention", searching=True)
        assert module
        module.attention.gain(likely)

    party = Party("", session, module, operator)
    return _run([party], program, values, {"": lexicon}, note, first=gain if module and attention else None)


def run_with_parties(
    parties: Sequence[Participant],
    program: Program,
    values: Mapping[str, object],
    *,
    patience: float = PATIENCE,
    fixture: Fixture | None = None,
    given: Mapping[str, object] | None = None,
    opens: Callable[[str, str], Party] | None = None,
    note: Callable[[str], None] = lambda text: None,
) -> DialogueResult:
    """Runs a dialogue between several parties; each enters command mode when it is first spoken to as a module that takes
    commands. Faults end in the result."""
    made = [one.party(program, patience, fixture, given) for one in parties]
    return _run(made, program, values, {one.name: one.lexicon for one in parties}, note, opens=opens)


def require_unit(module: Module, unit: str) -> None:
    """Raises AnotherModule unless the module says that it is this unit (empty: any)."""
    if unit and (found := module.lexicon.unit_of(module.identify())) != unit:
        what = f"another module answers: {visible(found)}, and {visible(unit)} was provisioned here"
        hint = "Put that one back and run this again."
        raise AnotherModule(what, where=module.session.link.name, hint=hint, identity=module.identity)


class Participant(msgspec.Struct):
    """A module that takes part in a dialogue: its name there, its session, its lexicon if it has one, its operator, the links
    to try first, and which `unit` it must be (empty: any). That is asked whenever command mode is entered."""

    name: str
    session: Session
    lexicon: Lexicon | None
    operator: Operator
    likely: Sequence[Tuning] = ()
    unit: str = ""

    def party(
        self, program: Program, patience: float, fixture: Fixture | None, given: Mapping[str, object] | None
    ) -> Party:
        """It, as the dialogue sees it."""
        session, operator, lexicon = self.session, self.operator, self.lexicon
        # In data mode lines come as the other side makes them, with the module's own events among them; nothing is an echo.
        events = lexicon.dialect.events if lexicon else {}
        data = Dialect(DATA, events).and_blocks_of(program.patterns())
        if lexicon is None:
            return Party(self.name, session, None, operator, pass_data=lambda: session.adopt(data))
        module = Module(session, lexicon, operator, patience=patience, fixture=fixture, given=given)
        commands = lexicon.dialect.and_blocks_of(program.patterns())

        def listen() -> None:
            session.adopt(commands)
            module.attention.gain(self.likely)
            require_unit(module, self.unit)

        def pass_data() -> None:
            module.leave()
            module.attention.lose()
            session.tune(module.data_link)
            session.adopt(data)

        attention = module.attention
        return Party(
            self.name, session, module, operator, listen=listen, pass_data=pass_data, held=lambda: attention.held
        )


def _run(
    parties: Sequence[Party],
    program: Program,
    values: Mapping[str, object],
    lexicons: Mapping[str, Lexicon | None],
    note: Callable[[str], None],
    *,
    first: Callable[[], None] | None = None,
    opens: Callable[[str, str], Party] | None = None,
) -> DialogueResult:
    """Runs a dialogue, `first` before its first line."""
    session = parties[0].session
    files = TransferFiles(program, values)
    runner = Runner(parties, program, values, note=note, opens=opens, files=files)
    result = DialogueResult(dialogue=program.path, verdict=Verdict.PASSED)
    began = session.clock.now()
    try:
        if first:
            first()
        session.begin_step("dialogue", most=program.may_take())
        runner.run()
    except (Exception, KeyboardInterrupt) as fault:
        here = runner.party
        if not here.data:
            with_cause(fault, here.session, lexicons.get(here.name))
        place = _place(fault, program)
        if not place and here.name and runner.statement:
            # A port or a socket that failed: where that was noticed.
            place = f"line {runner.statement.line} at {here.name}: {next(iter(runner.statement.lines()), '')}"
        result.ended_by(fault, here.session.secrets.mask(place), here.session)
    all_ = [one.session for one in runner.parties.values()] or [session]
    result.exchanges = sum(one.exchanges for one in all_)
    result.seconds = round(session.clock.now() - began, 6)
    result.kept, result.notes = runner.result.kept, runner.result.notes
    result.measurements = [
        Measurement.of(one.name, one.value, one.unit, one.low, one.high) for one in runner.result.measured
    ]
    on_wire, pauses = sum(one.on_wire for one in all_), sum(one.pauses for one in all_)
    result.on_wire, result.pauses = round(on_wire, 6), round(pauses, 6)
    result.waiting = round(max(0.0, result.seconds - on_wire - pauses), 6)
    result.parties = {one.name: one.session.link.name for one in runner.parties.values()}
    session.tell(Finished(session.clock.now(), "dialogue", "", str(result.verdict)))
    for one in all_:
        one.listener.flush()
        masked(result, one.secrets)
    return result


def _place(fault: BaseException, program: Program) -> str:
    """The line that failed; empty if the fault is not of one line. An action's lines are named with its lexicon."""
    if not isinstance(fault, DialogueFault) or not fault.line:
        return ""
    file = f"{fault.where}, " if fault.where != program.path else ""
    party = f" at {fault.party}" if fault.party else ""
    return f"{file}line {fault.line}{party}: {fault.source}"


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
        session = self.session(name, link, Dialect(DATA))
        if isinstance(link, SocketLink):
            link.accepted = lambda peer: session.log(f"a client has connected from {peer}")
        return Party(name, session, is_socket=True)

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


# How many different lines are shown.
MOST_TOLD = 5
_PACKET = "WX"


def other_lines(session: Session) -> Counter[str]:
    """The lines that were no packets, as often as they came."""
    heard = "".join(seen.text for seen in session.recent if isinstance(seen, Heard))
    lines = (line.strip() for line in re.split("[\r\n]+", heard))
    return Counter(line for line in lines if line and not line.startswith(_PACKET))


def refusals(session: Session) -> tuple[int, str]:
    """How many lines refuse a command, and the last of them."""
    refused = [(line, count) for line, count in other_lines(session).items() if is_refusal(line)]
    return sum(count for _, count in refused), refused[-1][0] if refused else ""


def told(session: Session, lexicon: Lexicon | None) -> list[str]:
    """The most frequent of them, with their meaning."""
    return [
        (f"{count} times " if count > 1 else "") + f"“{visible(line)}”" + _meaning(line, lexicon)
        for line, count in other_lines(session).most_common(MOST_TOLD)
    ]


def _meaning(line: str, lexicon: Lexicon | None) -> str:
    if lexicon is None:
        return ""
    if final := lexicon.dialect.final(line):
        meaning = lexicon.errors.get(final.code, "")
        return f" ({meaning})" if meaning else f" ({final.status})"
    if event := lexicon.dialect.event(line):
        name, values = event
        given = ", ".join(f"{key} {visible(written(value))}" for key, value in values.items())
        return f" (event {name}{': ' if given else ''}{given})"
    return ""
