"""The values of a running dialogue: expressions and templates are evaluated with them, and some are kept for the result.

The rule: a value made from a secret is a secret; what a fault tells of a value was masked before.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any

from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput, Measured, ModuleActions, Say
from wexicon.core.dialogue.expressions import Expression, ExpressionFault
from wexicon.core.dialogue.lines import Statement
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.statements import Keep, KeepValue, Measure
from wexicon.core.faults import Fault, ModuleFault, Part, Stopped
from wexicon.core.protocol.elements import CaptureElement
from wexicon.core.protocol.insertion import Filled, InsertionFault, Template
from wexicon.core.protocol.session import Session
from wexicon.core.text import Secret, plain, visible, written
from wexicon.core.values import ValueFault


class Scope:
    """The values of one run, and who is spoken to: `party`. What is not yet `inside` an `at` block has no party to name."""

    def __init__(self, program: Program, party: Party, values: Mapping[str, object]) -> None:
        self.program = program
        self.party = party
        marked = program.secrets()
        self.values: dict[str, object] = {
            name: Secret(value) if name in marked and not isinstance(value, Secret) else value
            for name, value in values.items()
        }
        for value in self.values.values():
            if isinstance(value, Secret):
                party.session.secrets.learn(value)
        self.result = DialogueOutput()
        self._inside = False
        # Captures that are read as a setting's value is.
        self._of = {
            one.name: one.of
            for pattern in program.patterns()
            for one in pattern.elements
            if isinstance(one, CaptureElement) and one.of
        }

    @property
    def session(self) -> Session:
        """The session of who is spoken to."""
        return self.party.session

    @property
    def module(self) -> ModuleActions | None:
        """What the lexicon of who is spoken to does."""
        return self.party.module

    def _take(self, statement: Statement, captures: Mapping[str, object]) -> None:
        """Captures become values, those of a setting by its kind; one that holds a secret is a secret."""
        captures = self.session.dialect.plain(dict(captures))
        for name in self._of.keys() & captures.keys():
            captures[name] = self._decoded(statement, self._of[name], captures[name])
        self.values.update({name: self._tainted(value) for name, value in captures.items()})

    def _decoded(self, statement: Statement, of: str, text: Any) -> Any:
        """The value of a setting's kind; of a column all of them."""
        if isinstance(text, list):
            return [self._decoded(statement, of, one) for one in text]
        return self._by_lexicon(statement, lambda module: module.decoded(of, text))

    def _tainted(self, value: object) -> object:
        secrets = self.session.secrets
        if isinstance(value, Secret):
            secrets.learn(value)
        elif secrets.any and secrets.mask(text := written(value)) != text:
            return Secret(value)
        return value

    def _fill(self, statement: Say) -> Filled:
        try:
            if statement.exact:
                counted = {name for name, value in self.party.counted.items() if self.values.get(name) == value}
                return statement.template.fill_exactly(self.values, counted=counted, prompted=self.party.prompted)
            speech = self.session.dialect.speech
            encode = self.module.encoded if self.module else None
            return statement.template.fill(
                self.values, quoting=speech.quoting, separators=speech.parting, encode=encode
            )
        except InsertionFault as fault:
            raise self._fault(statement, str(fault)) from None
        except KeyError as fault:
            raise self._fault(statement, "the lexicon has no such setting", str(fault.args[0])) from None

    def _measure(self, statement: Measure) -> None:
        number = self._number(statement, statement.value)
        low, high = (self._number(statement, one) if one else None for one in (statement.low, statement.high))
        self.result.measured.append(Measured(statement.name, number, statement.unit, low, high))
        if (low is not None and number < low) or (high is not None and number > high):
            raise self._fault(
                statement, f"{statement.name} is {number:g} {statement.unit}".rstrip() + ": outside its limits"
            )

    def _number(self, statement: Statement, expression: Expression) -> float:
        value = self._value(statement, expression)
        if isinstance(value, bool) or not isinstance(value, int | Decimal):
            what = f"{expression.source} is not a number"
            raise self._fault(statement, what, "capture it as {name:int}, or use number(...)")
        return float(value)

    def _value(self, statement: Statement, expression: Expression) -> Any:
        try:
            module, clock = self.module, self.session.clock
            also: dict[str, object] = {"since()": lambda mark: seconds(clock.now()) - mark}
            if module:
                also |= {"decoded()": module.decoded, "encoded()": module.encoded, "pin()": module.pin}
            return expression.value({**self.values, **also})
        except ExpressionFault as fault:
            at = fault.column - 1
            place = f" (at “{expression.source[at : at + 20]}”)" if at else ""
            raise self._fault(statement, f"{fault.what}{place}", fault.hint) from None

    def _text(self, statement: Statement, template: Template) -> str:
        """Text in quotes with its values; secrets stay hidden."""
        try:
            return self.session.secrets.mask(template.render(self.values))
        except InsertionFault as fault:
            raise self._fault(statement, str(fault)) from None

    def _now(self, expression: Expression) -> str:
        """What the names in an expression are now."""
        known = {name: self.values[name] for name in expression.names if name in self.values}
        now = ", ".join(
            f"{name} is {visible(str(value))}" for name, value in known.items() if not isinstance(value, Secret)
        )
        return f" ({now})" if now else ""

    def _keep_value(self, statement: KeepValue) -> None:
        value = self._tainted(self._value(statement, statement.value))
        self.values[statement.name] = self.result.kept[statement.name] = value

    def _keep(self, statement: Keep) -> None:
        names, as_name, kept = statement.names, statement.as_name, self.result.kept
        given = {name: self.values.get(name) for name in names}
        values = {name: plain(value) for name, value in given.items()}
        together = as_name or len(names) > 1
        columns = [value for value in values.values() if isinstance(value, list)]
        made: object
        if together and len(columns) == len(values) and len({len(column) for column in columns}) == 1:
            made = [dict(zip(names, row, strict=True)) for row in zip(*columns, strict=True)]
        elif as_name and len(names) > 1:
            made = [values]
        else:
            kept.update({as_name or name: value for name, value in given.items()})
            if as_name:
                self.values[as_name] = kept[as_name]
            return
        kept[as_name or names[0]] = Secret(made) if any(isinstance(one, Secret) for one in given.values()) else made
        if as_name:
            self.values[as_name] = kept[as_name]

    def _by_lexicon(self, statement: Statement, act: Callable[[ModuleActions], object]) -> Any:
        if self.module is None:
            hint = "name one with --lexicon, or say the words yourself with >"
            raise self._fault(statement, "there is no lexicon to do this with", hint)
        try:
            self.party.be_listening()
            return act(self.module)
        except DialogueFault as fault:
            fault.party = fault.party or self.party.name
            raise
        except Stopped:
            raise
        except ModuleFault as fault:
            raise self._fault(statement, fault.what, fault.hint, fault.part) from None
        except ValueFault as fault:
            what = self.session.secrets.mask(f"{fault.value!r} {fault.why}")
            raise self._fault(statement, what, f"allowed: {fault.allowed}") from None
        except Fault:
            raise
        except KeyError as fault:
            raise self._fault(statement, "the lexicon has no such thing", str(fault.args[0])) from None

    def _fault(self, statement: Statement, what: str, hint: str = "", part: Part | None = None) -> DialogueFault:
        mask = self.session.secrets.mask
        if part:
            part = Part(mask(part.said), part.expected, [mask(text) for text in part.heard], part.waited)
        fault = DialogueFault(mask(what), statement, part=part, where=self.program.path, hint=mask(hint))
        fault.party = self.party.name if self._inside else ""
        return fault


def seconds(time: float) -> Decimal:
    """A time in whole milliseconds: several parties are not heard more exactly."""
    return Decimal(str(round(time, 3)))
