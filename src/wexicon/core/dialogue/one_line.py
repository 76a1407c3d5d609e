"""Reads statements of one line: check, keep, note, tune and the like, and the parts that all statements are made of.

The rule: what is wrong with a line is a LineFault with its column; what the parts mean is told here once, for the reader
and for the holder.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from wexicon.core.dialogue.expressions import ExpressionFault, expression
from wexicon.core.dialogue.program import Needs, Simple, Statement, exact_template, pattern
from wexicon.core.durations import seconds
from wexicon.core.protocol.patterns import PatternFault, block_header
from wexicon.core.text import meant, nearest, visible
from wexicon.core.tuning import Tuning

KINDS = ("text", "word", "int", "decimal", "hex", "digits", "address")
ACTS = ("attention", "power-cycle", "release", "work")
BLOCK_WORDS = ("allow", "await", "repeat", "again", "when", "otherwise", "on")
SIMPLE_WORDS = (
    "check",
    "keep",
    "pause",
    "quiet",
    "tune",
    "signal",
    "break",
    "operator",
    "note",
    "fail",
    "do",
    "set",
    "read",
)
WORDS = ("needs", *BLOCK_WORDS, *SIMPLE_WORDS)
NAME = r"[A-Za-z_][A-Za-z0-9_]*"
_NEEDS = re.compile(rf"({NAME})(?:\s+(?!secret\b)([a-z]+))?(\s+secret)?\s*(?:=\s*(.+))?")
_KEEP_NAMES = re.compile(rf"({NAME}(?:\s*,\s*{NAME})*)(?:\s+as\s+({NAME}))?")
_ASSIGNED = re.compile(r"([A-Za-z_][A-Za-z0-9_-]*)\s*=(?!=)\s*(.+)")
_TUNE = re.compile(rf"(\d+|{NAME})(?:\s+(\S+))?")
_SIGNAL = re.compile(r"(?:dtr|rts)\s+(?:on|off)(?:\s+(?:dtr|rts)\s+(?:on|off))?")
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"')
_OPERATOR = re.compile(r'(?:([a-z-]+)\s+)?("(?:[^"\\]|\\.)*")')


class SourceLine(NamedTuple):
    """One line that is neither empty nor a comment."""

    number: int
    indent: int
    text: str


class LineFault(Exception):
    """What is wrong with a line, `column` counted from 1 in the line's text without its indentation."""

    def __init__(self, what: str, column: int = 1, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.column, self.hint = what, column, hint


class OneLine:
    """What reads one line. `complain` is the reader's."""

    def complain(self, number: int, column: int, what: str, hint: str = "") -> None:
        raise NotImplementedError

    # -- statements of one line -----------------------------------------------------------------------------------

    def simple(self, line: SourceLine, word: str, rest: str, column: int, depth: int) -> Statement:
        """Reads a statement of one line; complains of what is wrong in it."""
        if word == "needs":
            return self.needs(line, rest, column, depth)
        if word not in SIMPLE_WORDS:
            close = nearest(word, WORDS)
            hint = (
                f"did you mean {close}?"
                if close
                else f"a line begins with >, >>, <, <*, | or one of {', '.join(WORDS)}"
            )
            raise LineFault(f"there is no statement {visible(word)[:40]}", 1, hint)
        if word == "break":
            if rest:
                raise LineFault("stands alone", column)
        elif word == "check":
            self.expression(line, rest, column)
        elif word in ("pause", "quiet"):
            self.duration(line, rest, column)
        elif word in ("note", "fail"):
            self.quoted(line, rest, column)
        elif word == "operator":
            found = _OPERATOR.fullmatch(rest)
            if not found:
                raise LineFault('no text in "quotes"', column, 'write operator "Press the button"')
            if found[1] and found[1] not in ACTS:
                raise LineFault(f"{found[1]} is no act", column, meant(found[1], ACTS))
            self.quoted(line, found[2], column + found.start(2))
        elif word in ("do", "read"):
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_-]*", rest):
                raise LineFault("no name", column, f"write {word} NAME")
        elif word == "set":
            self.assigned(line, rest, column, "write set NAME = VALUE")
        elif word == "keep":
            if not _KEEP_NAMES.fullmatch(rest):
                self.assigned(line, rest, column, "write keep NAME, or keep NAME = EXPRESSION, or keep A, B as NAME")
        elif word == "tune":
            self.tune(rest, column)
        elif word == "signal" and not _SIGNAL.fullmatch(rest):
            raise LineFault("cannot be read", column, "write signal dtr on, signal rts off, or both")
        return Simple(word, rest, line=line.number)

    def needs(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _NEEDS.fullmatch(rest)
        if not found:
            raise LineFault("cannot be read", column, "write needs NAME [KIND] [secret] [= DEFAULT]")
        if depth:
            raise LineFault("may only stand at the margin", 1, "put it at the top of the file")
        kind = found[2] or "text"
        if kind not in KINDS:
            raise LineFault(f"{kind} is no kind", column + found.start(2), meant(kind, KINDS))
        if found[4]:
            self.expression(line, found[4], column + found.start(4))
            if found[3]:
                raise LineFault("a secret has no default", column + found.start(4), "take the default away")
        return Needs(found[1], kind, bool(found[3]), found[4] or "", line=line.number)

    def assigned(self, line: SourceLine, rest: str, column: int, hint: str) -> None:
        found = _ASSIGNED.fullmatch(rest)
        if not found:
            raise LineFault("cannot be read", column, hint)
        self.expression(line, found[2], column + found.start(2))

    def tune(self, rest: str, column: int) -> None:
        found = _TUNE.fullmatch(rest)
        if not found:
            raise LineFault("cannot be read", column, "write tune 115200, or tune 115200 8N1")
        try:
            Tuning.of(int(found[1]) if found[1].isdigit() else 9600, found[2] or "8N1")
        except ValueError as fault:
            raise LineFault(str(fault), column) from None

    # -- parts --------------------------------------------------------------------------------------------------

    def duration(self, line: SourceLine, text: str, column: int) -> None:
        try:
            seconds(text)
        except ValueError as fault:
            raise LineFault(str(fault), column) from None

    def number(self, line: SourceLine, text: str, column: int) -> int:
        if not re.fullmatch(r"[1-9][0-9]{0,5}", text):
            raise LineFault(f"{visible(text)[:20]} is no number of times", column, "a whole number from 1 to 999999")
        return int(text)

    def expression(self, line: SourceLine, text: str, column: int) -> None:
        try:
            expression(text)
        except ExpressionFault as fault:
            raise LineFault(f"the expression {fault.what}", column + fault.column - 1, fault.hint) from None

    def quoted(self, line: SourceLine, text: str, column: int) -> None:
        found = _QUOTED.fullmatch(text)
        if not found:
            raise LineFault('no text in "quotes"', column, "put it between quotes")
        self.compiled(exact_template, found[1], line, column)

    def compiled(self, compile_it: Callable[[str], object], source: str, line: SourceLine, column: int) -> bool:
        """Whether a literal line can be read; complains if not."""
        try:
            made = compile_it(source)
            if compile_it is pattern:
                block_header(made)  # type: ignore[arg-type]
            return True
        except PatternFault as fault:
            self.complain(line.number, line.indent + column + fault.column, fault.what, fault.hint)
        except ValueError as fault:
            self.complain(line.number, line.indent + column + 1, str(fault), r"escapes are \r \n \t \0 \e \\ \" \xNN")
        return False


def in_quotes(text: str) -> str:
    """What stands between the quotes of a text that was checked when the dialogue was read."""
    found = _QUOTED.fullmatch(text)
    return found[1] if found else text


def assignment(rest: str) -> tuple[str, str] | None:
    """NAME and EXPRESSION of `keep` or `set`; None where there is no `=`."""
    found = _ASSIGNED.fullmatch(rest)
    return (found[1], found[2]) if found else None


def kept_names(rest: str) -> tuple[list[str], str]:
    """The names of a `keep`, and what they are kept as (empty: as they are called)."""
    found = _KEEP_NAMES.fullmatch(rest)
    return ([name.strip() for name in found[1].split(",")], found[2] or "") if found else ([], "")


def operator_parts(rest: str) -> tuple[str, str]:
    """The act and the text of an `operator` statement."""
    found = _OPERATOR.fullmatch(rest)
    return (found[1] or "work", in_quotes(found[2])) if found else ("work", rest)
