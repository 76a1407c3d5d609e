"""Running a dialogue on a session, and what came of it as data."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.acting import DialogueFault
from wexicon.core.dialogue.blocks import Hear, Say
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.dialogue.statements import Statement
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.observations import Finished
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.work.contact.attention import PATIENCE
from wexicon.work.contact.beside import TransferFiles
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.module.expected import LINES, expected
from wexicon.work.module.module import AnotherModule, Module
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.masking import masked
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.verdicts import Verdict

# How data is heard that a party passes on.
DATA = Speech(echo="off")


def with_answers(program: Program, lexicon: Lexicon | None, dialect: Dialect) -> Program:
    """A program of plain lines with what must answer each: as the lexicon has it, or lines up to OK."""
    made: list[Statement] = []
    for statement in program.statements:
        if isinstance(statement, Say):
            wants = (expected(lexicon, dialect, statement.source)[0] if lexicon else LINES).wants
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
    runner = Runner(session, program, values, note=note, parties=parties, opens=opens, files=files)
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
        result.ended_by(fault, place, here.session)
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
