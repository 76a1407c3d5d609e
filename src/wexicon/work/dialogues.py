"""Running a dialogue on a session, and what came of it as data."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.dialogue.acting import DialogueFault
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import Complaint, Fault, FileFault
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import Nobody, Operator
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.files import read_file
from wexicon.work.attention import PATIENCE
from wexicon.work.module import Module
from wexicon.work.results import DialogueResult, DialogueVerdict, Failure, redacted, traceback_of


def find_dialogue(path: Path) -> Program:
    """The dialogue at a path. Raises Fault."""
    try:
        text = read_file(path).decode("utf-8")
    except UnicodeDecodeError as fault:
        complaint = Complaint(f"byte {fault.start} is not UTF-8", hint="save the file as UTF-8")
        raise FileFault(str(path), [complaint]) from None
    return read_dialogue(text, str(path))


def run_dialogue(
    session: Session,
    program: Program,
    values: Mapping[str, Any],
    lexicon: Lexicon | None = None,
    operator: Operator | None = None,
    *,
    attention: bool = True,
    likely: Sequence[Tuning] = (),
    patience: float = PATIENCE,
    fixture: Fixture | None = None,
    note: Callable[[str], None] = lambda text: None,
) -> DialogueResult:
    """Runs a dialogue; with a lexicon it gets the module's attention first, unless `attention` is false. Faults end in the
    result."""
    operator = operator or Nobody()
    began = session.clock.now()
    module = Module(session, lexicon, operator, patience=patience, fixture=fixture) if lexicon else None
    runner = Runner(session, program, values, module=module, operator=operator, note=note)
    verdict, failure = DialogueVerdict.PASSED, None
    try:
        if module and attention:
            session.begin_step("attention")
            module.attention.gain(likely)
        session.begin_step("dialogue")
        runner.run()
    except Fault as fault:
        verdict = DialogueVerdict.STOPPED if fault.status == 130 else DialogueVerdict.FAILED
        named = isinstance(fault, DialogueFault) and fault.line
        # An action's own lines are not those of the dialogue that has it done.
        whose = f"{fault.where}, " if fault.where != program.path else ""
        failure = Failure.of(fault, f"{whose}line {fault.line}: {fault.source}" if named else "")  # type: ignore[attr-defined]
    except (Exception, KeyboardInterrupt) as fault:
        failure = Failure.unforeseen(fault, "")
        verdict = DialogueVerdict.STOPPED if failure.status == 130 else DialogueVerdict.FAILED
        session.decide(f"unforeseen: {traceback_of(fault)}")
    took = session.clock.now() - began
    result = DialogueResult(
        program.path,
        verdict,
        runner.result.kept,
        runner.result.notes,
        failure,
        session.exchanges,
        round(took, 6),
        round(session.on_wire, 6),
        round(max(0.0, took - session.on_wire - session.pauses), 6),
        round(session.pauses, 6),
    )
    redacted(result, session.secrets)
    return result
