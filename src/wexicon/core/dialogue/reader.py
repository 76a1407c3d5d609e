"""Reads a dialogue: one statement a line, blocks by indentation, `>` and `<` lines literal to their end.

The rule: every fault of the text is found in one go, each with its line, its column, the line itself and a suggestion;
nothing is held before there is none. The grammar is written down in docs/dialogue.md.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from wexicon.core.dialogue.checks import check_program
from wexicon.core.dialogue.program import (
    Again,
    Allow,
    Await,
    Block,
    Hear,
    Needs,
    On,
    Other,
    Program,
    Repeat,
    Say,
    Simple,
    Statement,
    When,
    exact_template,
    pattern,
    template,
)
from wexicon.core.durations import seconds
from wexicon.core.expressions import ExpressionFault, expression
from wexicon.core.faults import Complaint, FileFault
from wexicon.core.patterns import PatternFault, block_header
from wexicon.core.text import meant, nearest, visible
from wexicon.core.tuning import Tuning

LONGEST_DIALOGUE = 1_048_576
DEEPEST = 30
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
_REPEAT = re.compile(
    r"(?:(?P<times>\S+)\s+times\b)?\s*(?:for\s+(?P<for>\S+))?\s*(?:every\s+(?P<every>\S+))?\s*(?:until\s+(?P<until>.+))?"
)
_AGAIN = re.compile(r"up\s+to\s+(\S+)(?:\s+every\s+(\S+))?")
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


class _Fault(Exception):
    """What is wrong with a line, `column` counted from 1 in the line's text without its indentation."""

    def __init__(self, what: str, column: int = 1, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.column, self.hint = what, column, hint


def read_dialogue(text: str, path: str) -> Program:
    """The program that `text` stands for. Raises FileFault with every complaint."""
    return _Reader(text, path).program()


class _Reader:
    """One reading; `at` is the next line to read."""

    def __init__(self, text: str, path: str) -> None:
        self.path = path
        self.complaints: list[Complaint] = []
        self.all = text.split("\n") if len(text) <= LONGEST_DIALOGUE else []
        if not self.all:
            self.complaints.append(Complaint(f"longer than {LONGEST_DIALOGUE} characters: this is no dialogue"))
        self.lines: list[SourceLine] = []
        for number, line in enumerate(self.all, 1):
            self.all[number - 1] = line = line.rstrip("\r")
            body = line.lstrip(" ")
            if not body.strip() or body.startswith("#"):
                continue
            if body[0] == "\t":
                self.complain(number, len(line) - len(body) + 1, "a tab", "indent with spaces")
                body = body.lstrip(" \t")
            self.lines.append(SourceLine(number, len(line) - len(body), body))
        self.at = 0

    def complain(self, number: int, column: int, what: str, hint: str = "") -> None:
        source = visible(self.all[number - 1][:200]).replace("\\\\", "\\")
        self.complaints.append(Complaint(what, "", number, max(1, column), source, hint))

    def program(self) -> Program:
        statements: Block = ()
        while self.at < len(self.lines):
            if self.lines[self.at].indent:
                self.complain(self.lines[self.at].number, 1, "indented below nothing", "take the spaces away")
            statements += self.block(self.lines[self.at].indent, 0)
        program = Program(statements, self.path)
        for complaint in check_program(program):
            self.complain(complaint.line, complaint.column, complaint.what, complaint.hint)
        if self.complaints:
            unique = {(c.line, c.what): c for c in reversed(self.complaints)}
            raise FileFault(self.path, sorted(unique.values(), key=lambda c: (c.line, c.column)))
        return program

    # -- blocks -------------------------------------------------------------------------------------------------

    def block(self, indent: int, depth: int) -> Block:
        """The statements from here on that stand at this indentation."""
        statements: list[Statement] = []
        while self.at < len(self.lines) and self.lines[self.at].indent >= indent:
            line = self.lines[self.at]
            if line.indent > indent:
                self.complain(
                    line.number, indent + 1, "indented further than the line above", "only a block is indented"
                )
                self.block(line.indent, depth + 1) if depth < DEEPEST else self.skip()
                continue
            if depth > DEEPEST:
                self.complain(line.number, line.indent + 1, f"nested more than {DEEPEST} deep")
                self.skip()
                continue
            try:
                made = self.statement(line, depth, bool(statements))
                if made:
                    statements.append(made)
            except _Fault as fault:
                self.complain(line.number, line.indent + fault.column, fault.what, fault.hint)
                self.skip_block(line)
        return tuple(statements)

    def skip(self) -> None:
        self.at += 1

    def skip_block(self, line: SourceLine) -> None:
        """Passes over what stands below a line that could not be read."""
        if self.at < len(self.lines) and self.lines[self.at] is line:
            self.at += 1
        while self.at < len(self.lines) and self.lines[self.at].indent > line.indent:
            self.at += 1

    def below(self, line: SourceLine, depth: int, *, required: bool = True) -> Block:
        """The block below a line."""
        if self.at < len(self.lines) and self.lines[self.at].indent > line.indent:
            return self.block(self.lines[self.at].indent, depth + 1)
        if required:
            raise _Fault("nothing stands below it", 1, "indent what belongs to it")
        return ()

    # -- statements ---------------------------------------------------------------------------------------------

    def statement(self, line: SourceLine, depth: int, follows: bool) -> Statement | None:
        text = line.text
        if text.startswith(">"):
            return self.say(line, depth)
        if text[0] in "<|":
            raise _Fault("nothing was said that this could answer", 1, f"a {text[0]} line stands below a > line")
        word = re.match(r"[^\s]*", text)
        name = word.group() if word else ""
        rest = text[len(name) :].strip()
        column = text.find(rest) + 1 if rest else len(text) + 1
        if name == "otherwise":
            raise _Fault("there is no `when` before it", 1)
        if name in BLOCK_WORDS:
            self.at += 1
            read: Callable[[SourceLine, str, int, int], Statement] = getattr(self, f"read_{name}")
            return read(line, rest, column, depth)
        self.at += 1
        return self.simple(line, name, rest, column, depth)

    def say(self, line: SourceLine, depth: int) -> Say:
        exact = line.text.startswith(">>")
        mark = ">>" if exact else ">"
        source = line.text[len(mark) :]
        source = source[1:] if source.startswith(" ") else source
        self.at += 1
        self.compiled(exact_template if exact else template, source, line, len(mark) + 1)
        hears: list[Hear] = []
        others: list[Other] = []
        silent = False
        while self.at < len(self.lines):
            here = self.lines[self.at]
            if here.indent != line.indent or here.text[0] not in "<|":
                break
            if here.text[0] == "|":
                others.append(self.other(here, depth))
                continue
            self.at += 1
            if here.text.rstrip() == "<":
                silent = True
                continue
            if hear := self.heard(here, here.text):
                if others:
                    self.complain(here.number, here.indent + 1, "a < line below a | line", "put all < lines first")
                hears.append(hear)
        if silent and (hears or others):
            self.complain(
                line.number, line.indent + 1, "a < with nothing after it says that nothing answers", "take it away"
            )
        return Say(source, exact, tuple(hears), tuple(others), silent, line=line.number)

    def heard(self, line: SourceLine, text: str) -> Hear | None:
        """A `<` line."""
        gather = text.startswith("<*")
        source = text[2 if gather else 1 :]
        source = source[1:] if source.startswith(" ") else source
        column = len(text) - len(source)
        quoted = re.fullmatch(r'"(.*)"\s*', source)
        if quoted and not gather:
            prompt = quoted[1]
            if not prompt or "{" in prompt or "\\" in prompt or '"' in prompt:
                self.complain(
                    line.number, line.indent + column + 1, "a prompt is plain text", 'write it in quotes: "> "'
                )
                return None
            return Hear(prompt, prompt=True, line=line.number)
        if not self.compiled(pattern, source, line, column):
            return None
        return Hear(source, gather, line=line.number)

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

    def other(self, line: SourceLine, depth: int) -> Other:
        """A `|` line: a pattern, two spaces and a statement, or a block below."""
        self.at += 1
        source = line.text[1:].lstrip(" ")
        offset = len(line.text) - len(source)
        for gap in re.finditer(r" {2,}", source):
            rest = source[gap.end() :]
            word = rest.split(" ", 1)[0]
            if word in SIMPLE_WORDS:
                inline = SourceLine(line.number, line.indent + offset + gap.end(), rest)
                self.compiled(pattern, source[: gap.start()], line, offset)
                then: Block = ()
                try:
                    arguments = rest[len(word) :].strip()
                    made = self.simple(
                        inline, word, arguments, rest.find(arguments) + 1 if arguments else len(rest), depth
                    )
                    then = (made,)
                except _Fault as fault:
                    self.complain(line.number, inline.indent + fault.column, fault.what, fault.hint)
                return Other(source[: gap.start()], then, line.number)
        for gap in re.finditer(r" {2,}(?=([a-z]+)\b)", source):
            if close := nearest(gap[1], SIMPLE_WORDS):
                column = line.indent + offset + gap.end() + 1
                self.complain(line.number, column, f"there is no statement {gap[1]}", f"did you mean {close}?")
                return Other("", (), line.number)
        if not source:
            self.complain(line.number, line.indent + 2, "no pattern", "write | PATTERN  STATEMENT")
        self.compiled(pattern, source, line, offset)
        return Other(source, self.below(line, depth, required=False), line.number)

    # -- statements with a block ----------------------------------------------------------------------------------

    def read_allow(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        self.duration(line, rest, column)
        return Allow(rest, self.below(line, depth, required=False), line=line.number)

    def read_await(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        self.duration(line, rest, column)
        hears: list[Hear] = []
        others: list[Other] = []
        indent = self.lines[self.at].indent if self.at < len(self.lines) else 0
        while self.at < len(self.lines) and self.lines[self.at].indent > line.indent:
            here = self.lines[self.at]
            if here.indent != indent:
                self.complain(here.number, here.indent + 1, "indented otherwise than the line above")
            if here.text.startswith("|"):
                others.append(self.other(here, depth))
                continue
            self.at += 1
            marked = here.text if here.text.startswith("<") else f"< {here.text}"
            shift = len(marked) - len(here.text)
            if hear := self.heard(SourceLine(here.number, here.indent - shift, marked), marked):
                if hear.prompt or hear.gather:
                    self.complain(here.number, here.indent + 1, "an event is neither a prompt nor gathered")
                hears.append(hear)
        if not hears and not others:
            raise _Fault("nothing stands below it", 1, "indent the events that must come, one a line")
        return Await(rest, tuple(hears), tuple(others), line=line.number)

    def read_repeat(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _REPEAT.fullmatch(rest)
        if not found or not rest:
            raise _Fault("cannot be read", column, "write repeat [N times] [for D] [every D] [until EXPRESSION]")
        times = self.number(line, found["times"], column) if found["times"] else 0
        for part in ("for", "every"):
            if found[part]:
                self.duration(line, found[part], column + found.start(part))
        if found["until"]:
            self.expression(line, found["until"], column + found.start("until"))
        if not times and not found["for"]:
            raise _Fault("has no end", column, "say for how long, or how often: repeat for 30s ..., repeat 5 times ...")
        body = self.below(line, depth)
        return Repeat(times, found["for"] or "", found["every"] or "", found["until"] or "", body, line=line.number)

    def read_again(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _AGAIN.fullmatch(rest)
        if not found:
            raise _Fault("cannot be read", column, "write again up to 3, or again up to 3 every 1s")
        if found[2]:
            self.duration(line, found[2], column + found.start(2))
        times = self.number(line, found[1], column + found.start(1))
        return Again(times, found[2] or "", self.below(line, depth), line=line.number)

    def read_when(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        self.expression(line, rest, column)
        branches = [(rest, self.below(line, depth))]
        while self.at < len(self.lines):
            here = self.lines[self.at]
            found = re.fullmatch(r"otherwise(?:\s+when\s+(.+))?\s*", here.text)
            if here.indent != line.indent or not found or not branches[-1][0]:
                break
            self.at += 1
            if found[1]:
                self.expression(here, found[1].strip(), found.start(1) + 1)
            try:
                branches.append(((found[1] or "").strip(), self.below(here, depth)))
            except _Fault as fault:
                self.complain(here.number, here.indent + 1, fault.what, fault.hint)
        return When(tuple(branches), line=line.number)

    def read_on(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        if not rest:
            raise _Fault("no event", column, "write on PATTERN, and below it what is to be done")
        self.compiled(pattern, rest, line, column - 1)
        return On(rest, self.below(line, depth), line=line.number)

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
            raise _Fault(f"there is no statement {visible(word)[:40]}", 1, hint)
        if word == "break":
            if rest:
                raise _Fault("stands alone", column)
        elif word == "check":
            self.expression(line, rest, column)
        elif word in ("pause", "quiet"):
            self.duration(line, rest, column)
        elif word in ("note", "fail"):
            self.quoted(line, rest, column)
        elif word == "operator":
            found = _OPERATOR.fullmatch(rest)
            if not found:
                raise _Fault('no text in "quotes"', column, 'write operator "Press the button"')
            if found[1] and found[1] not in ACTS:
                raise _Fault(f"{found[1]} is no act", column, meant(found[1], ACTS))
            self.quoted(line, found[2], column + found.start(2))
        elif word in ("do", "read"):
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_-]*", rest):
                raise _Fault("no name", column, f"write {word} NAME")
        elif word == "set":
            self.assigned(line, rest, column, "write set NAME = VALUE")
        elif word == "keep":
            if not _KEEP_NAMES.fullmatch(rest):
                self.assigned(line, rest, column, "write keep NAME, or keep NAME = EXPRESSION, or keep A, B as NAME")
        elif word == "tune":
            self.tune(rest, column)
        elif word == "signal" and not _SIGNAL.fullmatch(rest):
            raise _Fault("cannot be read", column, "write signal dtr on, signal rts off, or both")
        return Simple(word, rest, line=line.number)

    def needs(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _NEEDS.fullmatch(rest)
        if not found:
            raise _Fault("cannot be read", column, "write needs NAME [KIND] [secret] [= DEFAULT]")
        if depth:
            raise _Fault("may only stand at the margin", 1, "put it at the top of the file")
        kind = found[2] or "text"
        if kind not in KINDS:
            raise _Fault(f"{kind} is no kind", column + found.start(2), meant(kind, KINDS))
        if found[4]:
            self.expression(line, found[4], column + found.start(4))
            if found[3]:
                raise _Fault("a secret has no default", column + found.start(4), "take the default away")
        return Needs(found[1], kind, bool(found[3]), found[4] or "", line=line.number)

    def assigned(self, line: SourceLine, rest: str, column: int, hint: str) -> None:
        found = _ASSIGNED.fullmatch(rest)
        if not found:
            raise _Fault("cannot be read", column, hint)
        self.expression(line, found[2], column + found.start(2))

    def tune(self, rest: str, column: int) -> None:
        found = _TUNE.fullmatch(rest)
        if not found:
            raise _Fault("cannot be read", column, "write tune 115200, or tune 115200 8N1")
        try:
            Tuning.of(int(found[1]) if found[1].isdigit() else 9600, found[2] or "8N1")
        except ValueError as fault:
            raise _Fault(str(fault), column) from None

    # -- parts --------------------------------------------------------------------------------------------------

    def duration(self, line: SourceLine, text: str, column: int) -> None:
        try:
            seconds(text)
        except ValueError as fault:
            raise _Fault(str(fault), column) from None

    def number(self, line: SourceLine, text: str, column: int) -> int:
        if not re.fullmatch(r"[1-9][0-9]{0,5}", text):
            raise _Fault(f"{visible(text)[:20]} is no number of times", column, "a whole number from 1 to 999999")
        return int(text)

    def expression(self, line: SourceLine, text: str, column: int) -> None:
        try:
            expression(text)
        except ExpressionFault as fault:
            raise _Fault(f"the expression {fault.what}", column + fault.column - 1, fault.hint) from None

    def quoted(self, line: SourceLine, text: str, column: int) -> None:
        found = _QUOTED.fullmatch(text)
        if not found:
            raise _Fault('no text in "quotes"', column, "put it between quotes")
        self.compiled(exact_template, found[1], line, column)


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
