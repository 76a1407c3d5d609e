"""Running a dialogue on a session, and what came of it as data."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.acting import DialogueFault
from wexicon.core.dialogue.blocks import Hear, Say
from wexicon.core.dialogue.runner import Runner
from wexicon.core.dialogue.statements import Statement
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.work.contact.attention import PATIENCE
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.module.expected import LINES, expected
from wexicon.work.module.module import Module
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.masking import masked
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.verdicts import Verdict


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
    began = session.clock.now()
    module = Module(session, lexicon, operator, patience=patience, fixture=fixture, given=given) if lexicon else None
    runner = Runner(session, program, values, module=module, operator=operator, note=note)
    result = DialogueResult(dialogue=program.path, verdict=Verdict.PASSED)
    try:
        if module and attention:
            session.begin_step("attention", searching=True)
            module.attention.gain(likely)
        session.begin_step("dialogue")
        runner.run()
    except (Exception, KeyboardInterrupt) as fault:
        with_cause(fault, session, lexicon)
        result.ended_by(fault, _place(fault, program), session)
    result.timed(session, began)
    result.kept, result.notes = runner.result.kept, runner.result.notes
    result.measurements = [
        Measurement.of(one.name, one.value, one.unit, one.low, one.high) for one in runner.result.measured
    ]
    result.on_wire, result.pauses = round(session.on_wire, 6), round(session.pauses, 6)
    result.waiting = round(max(0.0, result.seconds - session.on_wire - session.pauses), 6)
    masked(result, session.secrets)
    return result


def _place(fault: BaseException, program: Program) -> str:
    """The line that failed; empty if the fault is not of one line. An action's lines are named with its lexicon."""
    if not isinstance(fault, DialogueFault) or not fault.line:
        return ""
    file = f"{fault.where}, " if fault.where != program.path else ""
    return f"{file}line {fault.line}: {fault.source}"
