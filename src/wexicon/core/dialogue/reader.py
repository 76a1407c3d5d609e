"""Reads a dialogue: one statement a line, blocks by indentation, `>` and `<` lines literal to their end.

The rule: every fault of the text is found in one go, each with its line, its column, the line itself and a suggestion;
nothing is held before there is none. The grammar is written down in docs/dialogue.md.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from wexicon.core.dialogue.checks import check_program
from wexicon.core.dialogue.one_line import BLOCK_WORDS, SIMPLE_WORDS, LineFault, OneLine, SourceLine
from wexicon.core.dialogue.program import (
    Again,
    Allow,
    Await,
    Block,
    Hear,
    On,
    Other,
    Program,
    Repeat,
    Say,
    Statement,
    When,
    exact_template,
    pattern,
    template,
)
from wexicon.core.faults import Complaint, FileFault
from wexicon.core.text import nearest, visible

LONGEST_DIALOGUE = 1_048_576
DEEPEST = 30
_REPEAT = re.compile(
    r"(?:(?P<times>\S+)\s+times\b)?\s*(?:for\s+(?P<for>\S+))?\s*(?:every\s+(?P<every>\S+))?\s*(?:until\s+(?P<until>.+))?"
)
_AGAIN = re.compile(r"up\s+to\s+(\S+)(?:\s+every\s+(\S+))?")


def read_dialogue(text: str, path: str) -> Program:
    """The program that `text` stands for. Raises FileFault with every complaint."""
    return _Reader(text, path).program()


class _Reader(OneLine):
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
                made = self.statement(line, depth)
                if made:
                    statements.append(made)
            except LineFault as fault:
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
            raise LineFault("nothing stands below it", 1, "indent what belongs to it")
        return ()

    # -- statements ---------------------------------------------------------------------------------------------

    def statement(self, line: SourceLine, depth: int) -> Statement | None:
        text = line.text
        if text.startswith(">"):
            return self.say(line, depth)
        if text[0] in "<|":
            raise LineFault("nothing was said that this could answer", 1, f"a {text[0]} line stands below a > line")
        word = re.match(r"[^\s]*", text)
        name = word.group() if word else ""
        rest = text[len(name) :].strip()
        column = text.find(rest) + 1 if rest else len(text) + 1
        if name == "otherwise":
            raise LineFault("there is no `when` before it", 1)
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
                except LineFault as fault:
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
            raise LineFault("nothing stands below it", 1, "indent the events that must come, one a line")
        return Await(rest, tuple(hears), tuple(others), line=line.number)

    def read_repeat(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _REPEAT.fullmatch(rest)
        if not found or not rest:
            raise LineFault("cannot be read", column, "write repeat [N times] [for D] [every D] [until EXPRESSION]")
        times = self.number(line, found["times"], column) if found["times"] else 0
        for part in ("for", "every"):
            if found[part]:
                self.duration(line, found[part], column + found.start(part))
        if found["until"]:
            self.expression(line, found["until"], column + found.start("until"))
        if not times and not found["for"]:
            raise LineFault(
                "has no end", column, "say for how long, or how often: repeat for 30s ..., repeat 5 times ..."
            )
        body = self.below(line, depth)
        return Repeat(times, found["for"] or "", found["every"] or "", found["until"] or "", body, line=line.number)

    def read_again(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        found = _AGAIN.fullmatch(rest)
        if not found:
            raise LineFault("cannot be read", column, "write again up to 3, or again up to 3 every 1s")
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
            except LineFault as fault:
                self.complain(here.number, here.indent + 1, fault.what, fault.hint)
        return When(tuple(branches), line=line.number)

    def read_on(self, line: SourceLine, rest: str, column: int, depth: int) -> Statement:
        if not rest:
            raise LineFault("no event", column, "write on PATTERN, and below it what is to be done")
        self.compiled(pattern, rest, line, column - 1)
        return On(rest, self.below(line, depth), line=line.number)
