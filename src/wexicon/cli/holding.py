"""What `run` and `rehearse` share: values given in several ways, the live record, and how a dialogue ended.

The rule: a secret never comes from the call itself, where any process could read it.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click
import msgspec

from wexicon.cli.show import print_line, print_table
from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.dialogue.doing import DialogueFault
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.runner import Holder
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault, Complaint, Fault, FileFault, ModuleFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import Operator
from wexicon.core.protocol.insertion import written
from wexicon.core.protocol.session import Session
from wexicon.core.text import meant, visible
from wexicon.work.finding import read_file, secrets_for
from wexicon.work.module import Module
from wexicon.work.provision import Failure

values_argument = click.argument("pairs", metavar="[NAME=VALUE]...", nargs=-1)
env_option = click.option(
    "--env", "env_pairs", multiple=True, metavar="NAME=VARIABLE", help="Take a value from the environment."
)
file_option = click.option("--file", "file_pairs", multiple=True, metavar="NAME=PATH", help="Take a value from a file.")


class DialogueReport(msgspec.Struct):
    """What `--json` prints of a dialogue that was held. Times are seconds: in all, on the wire, waiting for the module, and
    pauses that the dialogue makes."""

    dialogue: str
    outcome: str
    kept: dict[str, Any]
    notes: list[str]
    failure: Failure | None
    exchanges: int
    seconds: float
    on_wire: float
    waiting: float
    pauses: float
    trace: str = ""


def find_dialogue(path: Path) -> Program:
    """The dialogue at a path. Raises Fault."""
    try:
        text = read_file(path).decode("utf-8")
    except UnicodeDecodeError as fault:
        raise FileFault(
            str(path), [Complaint(f"byte {fault.start} is not UTF-8", hint="save the file as UTF-8")]
        ) from None
    return read_dialogue(text, str(path))


def split_pairs(pairs: Iterable[str]) -> dict[str, str]:
    """NAME=VALUE words as a dict."""
    found = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise CallFault(f"{pair!r} is no NAME=VALUE")
        found[name] = value
    return found


def gather_values(
    program: Program, pairs: Iterable[str], env_pairs: Iterable[str], file_pairs: Iterable[str]
) -> tuple[dict[str, Any], list[str]]:
    """The values that a dialogue needs, and those among them that are secret."""
    needs = {need.name: need for need in program.needs()}
    plain, from_env, from_file = split_pairs(pairs), split_pairs(env_pairs), split_pairs(file_pairs)
    for name in [*plain, *from_env, *from_file]:
        if name not in needs:
            raise CallFault(f"the dialogue needs no {name}", hint=meant(name, needs))
    fetch = secrets_for(Path())
    values: dict[str, Any] = {}
    for name, need in needs.items():
        try:
            if name in from_env:
                text = fetch("env", from_env[name])
            elif name in from_file:
                text = fetch("file", from_file[name])
            elif name in plain:
                if need.secret:
                    raise ValueError(f"{name} is a secret: on the command line every process could read it")
                text = plain[name]
            elif need.default:
                continue
            elif sys.stdin.isatty():
                text = str(click.prompt(name, hide_input=need.secret, err=True))
            else:
                raise ValueError(f"{name} was not given")
            values[name] = given(need, text)
        except ValueError as fault:
            ways = "--env NAME=VARIABLE, --file NAME=PATH, or a terminal to ask on"
            hint = f"give it by {ways}" if need.secret else f"give it as {name}=VALUE, or by {ways}"
            raise CallFault(str(fault), where=program.path, hint=hint) from None
    return values, [str(value) for name, value in values.items() if needs[name].secret]


def hold(
    session: Session,
    program: Program,
    values: dict[str, Any],
    lexicon: Lexicon | None,
    operator: Operator,
    prepare: Callable[[Module], None] | None = None,
) -> DialogueReport:
    """Holds a dialogue and reports how it ended."""
    began = session.clock.now()
    module = Module(session, lexicon, operator) if lexicon else None
    holder = Holder(session, program, values, module=module, operator=operator)
    outcome, failure = "held", None
    try:
        if module and prepare:
            prepare(module)
        holder.hold()
    except Fault as fault:
        outcome = "stopped" if fault.status == 130 else "failed"
        failure = _failure(fault)
    took = session.clock.now() - began
    waiting = max(0.0, took - session.on_wire - session.pauses)
    return DialogueReport(
        program.path,
        outcome,
        holder.held.kept,
        [visible(note) for note in holder.held.notes],
        failure,
        session.exchanges,
        round(took, 6),
        round(session.on_wire, 6),
        round(waiting, 6),
        round(session.pauses, 6),
    )


def _failure(fault: Fault) -> Failure:
    part = fault.part if isinstance(fault, ModuleFault) else None
    step = f"line {fault.line}: {fault.source}" if isinstance(fault, DialogueFault) and fault.line else ""
    if part is None:
        return Failure(step, fault.what, next=fault.hint, status=fault.status)
    return Failure(step, fault.what, part.said, part.expected, part.heard, fault.hint, fault.status)


def print_report(report: DialogueReport) -> None:
    """What was kept, as tables, and how it ended."""
    plain = [(name, visible(written(value))) for name, value in report.kept.items() if not _is_table(value)]
    if plain:
        print_table(("kept", "value"), plain)
    for name, rows in report.kept.items():
        if _is_table(rows):
            print_line(f"{name}:")
            print_table(list(rows[0]), [[visible(written(value)) for value in row.values()] for row in rows])
    failure = report.failure
    if failure is None:
        return
    style = "yellow" if report.outcome == "stopped" else "red"
    place = f"{report.dialogue}" + (f", {failure.step}" if failure.step else "")
    lines = [click.style(report.outcome, fg=style, bold=True) + f" in {place}", f"  {failure.what}"]
    if failure.said:
        lines.append(f"  said      {visible(failure.said)}")
    if failure.expected:
        lines.append(f"  expected  {visible(failure.expected)}")
        lines += [f"  heard     {visible(text)}" for text in failure.heard] or ["  heard     nothing"]
    if failure.next:
        lines.append(f"  {failure.next}")
    click.echo("\n".join(lines), err=True)


def _is_table(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and isinstance(value[0], dict)


def times(report: DialogueReport) -> str:
    """Where the time went."""
    return (
        f"{spoken(report.on_wire)} on the wire, {spoken(report.waiting)} waiting for the module, "
        f"{spoken(report.pauses)} in pauses"
    )
