"""Statements of one line: what each reads, what it uses and sets, how it is written.

The rule: a statement is a frozen value whose parts are compiled when it is read; its text is never parsed again. A new
one is a class here, in STATEMENTS, and a case in the runner.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import ClassVar

from wexicon.core.dialogue.expressions import Expression, ExpressionFault
from wexicon.core.dialogue.given import FORMS
from wexicon.core.dialogue.lines import NAME, OneLine, QuotedText, StatementFault, Words
from wexicon.core.protocol.transfers import PROTOCOLS
from wexicon.core.text import Duration, meant
from wexicon.core.tuning import Tuning

ACTS = ("attention", "power-cycle", "release", "work", "confirm")
_LEXICON_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_-]*")


class Needs(OneLine, frozen=True):
    """`needs NAME [KIND] [secret] [= DEFAULT]`: a value that must be given."""

    word: ClassVar[str] = "needs"
    gives: ClassVar[tuple[str, ...]] = ("name",)
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"({NAME})(?:\s+(?!secret\b)([a-z]+))?(\s+secret)?\s*(?:=\s*(.+))?")
    name: str
    kind: str = "text"
    secret: bool = False
    default: Expression | None = None

    @classmethod
    def read(cls, words: Words) -> Needs:
        found = words.taken(cls._form, "write needs NAME [KIND] [secret] [= DEFAULT]")
        kind = found[2] or "text"
        if kind not in FORMS:
            raise words.part(found.start(2), kind).fault(f"{kind} is not a kind", meant(kind, FORMS))
        default = words.part(found.start(4), found[4]) if found[4] else None
        made = default.expression() if default else None
        if default and found[3] and default.text.strip() != '""':
            raise default.fault("a secret has no default", 'take it away, or write "" for none')
        return cls(found[1], kind, bool(found[3]), made, line=words.line)

    def rest(self) -> str:
        words = [self.name] + ([self.kind] if self.kind != "text" else []) + ["secret"] * self.secret
        return " ".join(words) + (f" = {self.default.source}" if self.default else "")


class Check(OneLine, frozen=True):
    """`check EXPRESSION`."""

    word: ClassVar[str] = "check"
    condition: Expression

    @classmethod
    def read(cls, words: Words) -> Check:
        return cls(words.expression(), line=words.line)

    def rest(self) -> str:
        return self.condition.source


class Keep(OneLine, frozen=True):
    """`keep NAME, NAME as NAME`."""

    word: ClassVar[str] = "keep"
    gives: ClassVar[tuple[str, ...]] = ("as_name",)
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"({NAME}(?:\s*,\s*{NAME})*)(?:\s+as\s+({NAME}))?")
    names: tuple[str, ...]
    as_name: str = ""

    @classmethod
    def read(cls, words: Words) -> OneLine:
        found = cls._form.fullmatch(words.text)
        if found:
            return cls(tuple(name.strip() for name in found[1].split(",")), found[2] or "", line=words.line)
        hint = "write keep NAME, or keep NAME = EXPRESSION, or keep A, B as NAME"
        return KeepValue(*words.assignment(hint), line=words.line)

    def rest(self) -> str:
        return ", ".join(self.names) + (f" as {self.as_name}" if self.as_name else "")

    def uses(self) -> Iterator[tuple[int, str]]:
        for name in self.names:
            yield self.line, name


class Assignment(OneLine, frozen=True):
    """`WORD NAME = EXPRESSION`."""

    name: str
    value: Expression

    @classmethod
    def read(cls, words: Words) -> OneLine:
        return cls(*words.assignment(f"write {cls.word} NAME = EXPRESSION"), line=words.line)

    def rest(self) -> str:
        return f"{self.name} = {self.value.source}"


class KeepValue(Assignment, frozen=True):
    """`keep NAME = EXPRESSION`: a value for the result, and for the lines that follow."""

    word: ClassVar[str] = "keep"
    gives: ClassVar[tuple[str, ...]] = ("name",)


class Let(Assignment, frozen=True):
    """`let NAME = EXPRESSION`: a value for the lines that follow."""

    word: ClassVar[str] = "let"
    gives: ClassVar[tuple[str, ...]] = ("name",)


class Set(Assignment, frozen=True):
    """`set NAME = EXPRESSION`: a setting, by the lexicon."""

    word: ClassVar[str] = "set"


class Measure(OneLine, frozen=True):
    """`measure NAME = EXPRESSION [unit] UNIT [from LOW] [to HIGH]`: a number for the record; outside its limits, which are
    expressions too, it fails. The word `unit` may be left out."""

    word: ClassVar[str] = "measure"
    _form: ClassVar[re.Pattern[str]] = re.compile(
        rf"({NAME}\s*=\s*.+?)(?:\s+unit\s+(\S{{1,16}}))?(?:\s+from\s+(.+?))?(?:\s+to\s+(.+?))?", re.ASCII
    )
    name: str
    value: Expression
    unit: str = ""
    low: Expression | None = None
    high: Expression | None = None

    @classmethod
    def read(cls, words: Words) -> Measure:
        hint = "write measure NAME = EXPRESSION unit UNIT from LOW to HIGH; unit and limits may be left out"
        found = words.taken(cls._form, hint)
        low, high = (words.part(found.start(at), found[at]).expression() if found[at] else None for at in (3, 4))
        if low and high and not low.names and not high.names and _number(low) > _number(high):
            raise words.part(found.start(3), found[3]).fault("the lower limit is above the upper one")
        unit, source = found[2] or "", found[1]
        try:
            name, value = words.part(0, source).assignment(hint)
        except StatementFault:
            # The last word is no part of the expression: it is the unit.
            source, _, unit = source.rstrip().rpartition(" ")
            if found[2] or not re.fullmatch(r"\S{1,16}", unit):
                raise
            name, value = words.part(0, source.rstrip()).assignment(hint)
        return cls(name, value, unit, low, high, line=words.line)

    def rest(self) -> str:
        limits = [("unit", self.unit)] if self.unit else []
        limits += [(word, one.source) for word, one in (("from", self.low), ("to", self.high)) if one]
        return " ".join([f"{self.name} = {self.value.source}", *(f"{word} {text}" for word, text in limits)])


def _number(written: Expression) -> float:
    """A limit that names no value. Raises LineFault."""
    try:
        return float(str(written.value({})))
    except (ExpressionFault, ValueError):
        raise StatementFault(f"the limit {written.source} is not a number") from None


class Pause(OneLine, frozen=True):
    """`pause D`: waits, and answers events meanwhile."""

    word: ClassVar[str] = "pause"
    duration: Duration

    @classmethod
    def read(cls, words: Words) -> Pause:
        return cls(words.duration(), line=words.line)

    def rest(self) -> str:
        return self.duration.text


class Quiet(Pause, frozen=True):
    """`quiet D`: sends nothing for D after our last byte (guard time)."""

    word: ClassVar[str] = "quiet"


class Tune(OneLine, frozen=True):
    """`tune RATE [FRAME]`: our side of the link; RATE a number or a name, FRAME as it is where none is given."""

    word: ClassVar[str] = "tune"
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"(\d+|{NAME})(?:\s+(\S+))?", re.ASCII)
    rate: int | str
    frame: str = ""

    @classmethod
    def read(cls, words: Words) -> Tune:
        found = words.taken(cls._form, "write tune 115200, or tune 115200 8N1")
        number = int(found[1][:20]) if found[1].isdigit() else None
        try:
            Tuning.of(9600 if number is None else number, found[2] or "8N1")
        except ValueError as fault:
            raise words.fault(str(fault)) from None
        return cls(found[1] if number is None else number, found[2] or "", line=words.line)

    def rest(self) -> str:
        return f"{self.rate} {self.frame}".rstrip()

    def uses(self) -> Iterator[tuple[int, str]]:
        if isinstance(self.rate, str):
            yield self.line, self.rate


class Signal(OneLine, frozen=True):
    """`signal LINE on/off ...`: drives control lines, `lines` of dtr and rts."""

    word: ClassVar[str] = "signal"
    _form: ClassVar[re.Pattern[str]] = re.compile(r"(?:dtr|rts)\s+(?:on|off)(?:\s+(?:dtr|rts)\s+(?:on|off))?")
    states: tuple[tuple[str, bool], ...]

    @classmethod
    def read(cls, words: Words) -> Signal:
        words.taken(cls._form, "write signal dtr on, signal rts off, or both")
        parts = words.text.split()
        states = zip(parts[::2], (part == "on" for part in parts[1::2]), strict=True)
        return cls(tuple(states), line=words.line)

    def rest(self) -> str:
        return " ".join(f"{name} {'on' if on else 'off'}" for name, on in self.states)


class Break(OneLine, frozen=True):
    """`break`: ends the repeat around it."""

    word: ClassVar[str] = "break"

    @classmethod
    def read(cls, words: Words) -> Break:
        if words.text:
            raise words.fault("stands alone")
        return cls(line=words.line)


class AskOperator(OneLine, frozen=True):
    """`operator [ACT] "TEXT"`: asks for what only operators can do; `operator confirm "TEXT"` waits for Enter."""

    word: ClassVar[str] = "operator"
    _form: ClassVar[re.Pattern[str]] = re.compile(r'(?:([a-z-]+)\s+)?("(?:[^"\\]|\\.)*")')
    act: str
    text: QuotedText

    @classmethod
    def read(cls, words: Words) -> AskOperator:
        found = cls._form.fullmatch(words.text)
        if not found:
            raise words.fault('no text in "quotes"', 'write operator "Press the button"')
        if found[1] and found[1] not in ACTS:
            raise words.fault(f"{found[1]} is not an act", meant(found[1], ACTS))
        return cls(found[1] or "work", words.part(found.start(2), found[2]).quoted(), line=words.line)

    def rest(self) -> str:
        return ("" if self.act == "work" else f"{self.act} ") + self.text.wording()


class Note(OneLine, frozen=True):
    """`note "TEXT"`."""

    word: ClassVar[str] = "note"
    text: QuotedText

    @classmethod
    def read(cls, words: Words) -> Note:
        return cls(words.quoted(), line=words.line)

    def rest(self) -> str:
        return self.text.wording()


class Fail(Note, frozen=True):
    """`fail "TEXT"`."""

    word: ClassVar[str] = "fail"


class Mark(OneLine, frozen=True):
    """`mark NAME`: keeps the time; `since(NAME)` in an expression is how many seconds ago that was."""

    word: ClassVar[str] = "mark"
    gives: ClassVar[tuple[str, ...]] = ("name",)
    name: str

    @classmethod
    def read(cls, words: Words) -> Mark:
        if not re.fullmatch(NAME, words.text):
            raise words.fault("no name", "write mark NAME")
        return cls(words.text, line=words.line)

    def rest(self) -> str:
        return self.name


class Ask(OneLine, frozen=True):
    """`ask NAME "TEXT" [KIND]`: the operator reads something, an instrument or a lamp, and types it; waited for."""

    word: ClassVar[str] = "ask"
    gives: ClassVar[tuple[str, ...]] = ("name",)
    _form: ClassVar[re.Pattern[str]] = re.compile(rf'({NAME})\s+("(?:[^"\\]|\\.)*")(?:\s+([a-z]+))?')
    name: str
    text: QuotedText
    kind: str = "text"

    @classmethod
    def read(cls, words: Words) -> Ask:
        found = words.taken(cls._form, 'write ask power "What does the meter show, in dBm?" decimal')
        kind = found[3] or "text"
        if kind not in FORMS:
            raise words.part(found.start(3), kind).fault(f"{kind} is not a kind", meant(kind, FORMS))
        return cls(found[1], words.part(found.start(2), found[2]).quoted(), kind, line=words.line)

    def rest(self) -> str:
        return f"{self.name} {self.text.wording()}" + (f" {self.kind}" if self.kind != "text" else "")


class Transfer(OneLine, frozen=True):
    """`transfer "FILE" by PROTOCOL`: sends a file. Its path is relative to the dialogue's folder."""

    word: ClassVar[str] = "transfer"
    _form: ClassVar[re.Pattern[str]] = re.compile(r'("(?:[^"\\]|\\.)*")\s+by\s+(\S+)')
    file: QuotedText
    protocol: str

    @classmethod
    def read(cls, words: Words) -> Transfer:
        found = words.taken(cls._form, 'write transfer "FILE" by xmodem')
        if found[2] not in PROTOCOLS:
            raise words.part(found.start(2), found[2]).fault(
                f"{found[2]} is not a protocol", meant(found[2], PROTOCOLS)
            )
        return cls(words.part(0, found[1]).quoted(), found[2], line=words.line)

    def rest(self) -> str:
        return f"{self.file.wording()} by {self.protocol}"


class Do(OneLine, frozen=True):
    """`do ACTION`, by the lexicon."""

    word: ClassVar[str] = "do"
    name: str

    @classmethod
    def read(cls, words: Words) -> Do:
        if not _LEXICON_NAME.fullmatch(words.text):
            raise words.fault("no name", f"write {cls.word} NAME")
        return cls(words.text, line=words.line)

    def rest(self) -> str:
        return self.name


class Read(Do, frozen=True):
    """`read NAME [as OTHER]`: a setting, by the lexicon; its value is then known under its name (`_` for `-`), or the other."""

    word: ClassVar[str] = "read"
    gives: ClassVar[tuple[str, ...]] = ("variable",)
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"(\S+)(?:\s+as\s+({NAME}))?")
    as_name: str = ""

    @classmethod
    def read(cls, words: Words) -> Read:
        found = words.taken(cls._form, "write read NAME, or read NAME as OTHER")
        name = super().read(words.part(0, found[1])).name
        return cls(name, found[2] or "", line=words.line)

    def rest(self) -> str:
        return f"{self.name} as {self.as_name}" if self.as_name else self.name

    @property
    def variable(self) -> str:
        return self.as_name or self.name.replace("-", "_")


STATEMENTS: dict[str, type[OneLine]] = {
    one.word: one for one in (Needs, Check, Keep, Let, Measure, Mark, Ask, Pause, Quiet)
}
STATEMENTS |= {one.word: one for one in (Tune, Signal, Break, AskOperator, Note, Fail, Transfer, Do, Set, Read)}
