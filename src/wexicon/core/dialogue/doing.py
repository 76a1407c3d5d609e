"""Does the statements of one line while a dialogue is held: check, keep, pause, tune, note, set and the like.

The rule: each of these methods is called as its statement is, and is given the words behind it; a secret among the values
shows nowhere.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from wexicon.core.dialogue.expressions import ExpressionFault, expression
from wexicon.core.dialogue.one_line import assignment, in_quotes, kept_names, operator_parts
from wexicon.core.dialogue.program import Program, Statement, duration, exact_template
from wexicon.core.faults import Fault, ModuleFault, Part, Stopped
from wexicon.core.operator import Operator
from wexicon.core.protocol.exchange import Event
from wexicon.core.protocol.insertion import InsertionFault, Template
from wexicon.core.protocol.session import HIDDEN, Session
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import ValueFault


class Module(Protocol):
    """What a lexicon lets a dialogue do; without one, `do`, `set` and `read` are faults."""

    def do(self, action: str, values: Mapping[str, Any]) -> dict[str, Any]: ...

    def set(self, name: str, value: Any) -> None: ...

    def read(self, name: str) -> Any: ...

    def meaning(self, code: str) -> str: ...


class DialogueFault(ModuleFault):
    """A statement that failed. `line` is where it stands, `source` its words."""

    def __init__(
        self, what: str, statement: Statement, *, part: Part | None = None, where: str = "", hint: str = ""
    ) -> None:
        super().__init__(what, part=part, where=where, hint=hint)
        self.line = statement.line
        self.source = next(iter(statement.lines()), "")


class Break(Exception):
    """Ends the repeat around it."""


@dataclass
class Held:
    """What came of a dialogue: what it kept (tables are lists of dicts), its notes, and how many exchanges it took."""

    kept: dict[str, Any] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


class Doing:
    """What a holder knows while it does a statement of one line."""

    session: Session
    program: Program
    module: Module | None
    operator: Operator
    values: dict[str, Any]
    secrets: set[str]
    held: Held
    _tell: Callable[[str], None]

    def _wait(self, until: float, pick: Callable[[Event], bool] | None = None, since: float = 0.0) -> Event | None:
        """Listens until the time `until`; the holder does."""
        raise NotImplementedError

    def _fill(
        self, statement: Statement, made: Template, values: Mapping[str, Any] | None = None, *, control: bool
    ) -> str:
        try:
            quoting = self.session.speech.quotes
            return made.fill(self.values if values is None else values, control=control, quoting=quoting)
        except InsertionFault as fault:
            raise DialogueFault(str(fault), statement) from None

    # -- statements of one line -----------------------------------------------------------------------------------

    def _reckon(self, statement: Statement, source: str) -> Any:
        try:
            return expression(source).value(self.values)
        except ExpressionFault as fault:
            place = f" (at “{source[fault.column - 1 : fault.column + 19]}”)" if fault.column > 1 else ""
            raise DialogueFault(f"{fault.what}{place}", statement, where=self.program.path, hint=fault.hint) from None

    def _text(self, statement: Statement, source: str) -> str:
        """Text in quotes with its values; secrets stay hidden."""
        safe = {name: HIDDEN if name in self.secrets else value for name, value in self.values.items()}
        return self._fill(statement, exact_template(source), safe, control=True)

    def _check(self, statement: Statement, rest: str) -> None:
        if not self._reckon(statement, rest):
            names = [name for name in expression(rest).names if name not in self.secrets]
            now = ", ".join(f"{name} is {visible(str(self.values[name]))}" for name in names)
            raise DialogueFault(f"not so: {rest}" + (f" ({now})" if now else ""), statement, where=self.program.path)

    def _keep(self, statement: Statement, rest: str) -> None:
        if assigned := assignment(rest):
            name, source = assigned
            self.values[name] = self.held.kept[name] = self._reckon(statement, source)
            if self.secrets.intersection(expression(source).names):
                self.held.kept[name] = HIDDEN
            return
        names, as_name = kept_names(rest)
        values = {name: HIDDEN if name in self.secrets else self.values.get(name) for name in names}
        lists = [value for value in values.values() if isinstance(value, list)]
        if (
            lists
            and len(lists) == len(values)
            and (as_name or len(names) > 1)
            and len({len(one) for one in lists}) == 1
        ):
            rows = [dict(zip(names, row, strict=True)) for row in zip(*lists, strict=True)]
            self.held.kept[as_name or names[0]] = rows
        elif as_name and len(names) > 1:
            self.held.kept[as_name] = [values]
        else:
            for name, value in values.items():
                self.held.kept[as_name or name] = value
        if as_name:
            self.values[as_name] = self.held.kept[as_name]

    def _pause(self, statement: Statement, rest: str) -> None:
        self.session.pauses += duration(rest)
        self._wait(self.session.clock.now() + duration(rest))

    def _quiet(self, statement: Statement, rest: str) -> None:
        self.session.pauses += duration(rest)
        self.session.quiet(duration(rest))

    def _tune(self, statement: Statement, rest: str) -> None:
        rate, _, frame = rest.partition(" ")
        value = self.values.get(rate) if not rate.isdigit() else rate
        try:
            tuning = Tuning.of(int(str(value)), frame.strip() or self.session.link.tuning.frame)
        except ValueError as fault:
            raise DialogueFault(str(fault), statement) from None
        self.session.tune(tuning)

    def _signal(self, statement: Statement, rest: str) -> None:
        words = rest.split()
        lines = {name: state == "on" for name, state in zip(words[::2], words[1::2], strict=True)}
        self.session.signal(dtr=lines.get("dtr"), rts=lines.get("rts"))

    def _break(self, statement: Statement, rest: str) -> None:
        raise Break

    def _operator(self, statement: Statement, rest: str) -> None:
        act, source = operator_parts(rest)
        text = visible(self._text(statement, source))
        self.session.trace.record(self.session.clock.now(), "asked", act=act, text=text)
        self.operator.ask(act, text)

    def _note(self, statement: Statement, rest: str) -> None:
        text = self._text(statement, in_quotes(rest))
        self.held.notes.append(text)
        self._tell(text)
        self.session.decide(f"note: {text}")

    def _fail(self, statement: Statement, rest: str) -> None:
        raise DialogueFault(visible(self._text(statement, in_quotes(rest))), statement, where=self.program.path)

    def _do(self, statement: Statement, rest: str) -> None:
        kept = self._with_module(statement, lambda module: module.do(rest, self.values))
        self.held.kept.update(kept)
        self.values.update(kept)

    def _set(self, statement: Statement, rest: str) -> None:
        assigned = assignment(rest)
        assert assigned
        name, source = assigned
        value = self._reckon(statement, source)
        self._with_module(statement, lambda module: module.set(name, value))

    def _read(self, statement: Statement, rest: str) -> None:
        self.values[rest.replace("-", "_")] = self._with_module(statement, lambda module: module.read(rest))

    def _with_module(self, statement: Statement, act: Callable[[Module], Any]) -> Any:
        if self.module is None:
            hint = "name one with --lexicon, or say the words yourself with >"
            raise DialogueFault("there is no lexicon to do this with", statement, where=self.program.path, hint=hint)
        try:
            return act(self.module)
        except (DialogueFault, Stopped):
            raise
        except ModuleFault as fault:
            raise DialogueFault(
                fault.what, statement, part=fault.part, where=self.program.path, hint=fault.hint
            ) from None
        except ValueFault as fault:
            raise DialogueFault(f"{fault.value!r} {fault.why}", statement, hint=f"allowed: {fault.allowed}") from None
        except Fault:
            raise
        except KeyError as fault:
            raise DialogueFault("the lexicon has no such thing", statement, hint=str(fault.args[0])) from None
