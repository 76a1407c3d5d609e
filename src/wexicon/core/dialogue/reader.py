"""Reads a dialogue: one statement a line, blocks by indentation, `>` and `<` lines literal to their end; or a plain file of AT
lines, each said and its success code required.

The rule: every fault of the text is found in one go, each with its line, its column, the line itself and a suggestion; nothing
is said to a module before there is none. The grammar is written down in docs/dialogue.md.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec

from wexicon.core.dialogue import blocks, statements
from wexicon.core.dialogue.blocks import Await, Hear, Other, Say, When
from wexicon.core.dialogue.lines import NAME, Body, OneLine, SourceLine, Statement, StatementFault, Words, template
from wexicon.core.dialogue.parties import PARTY_STATEMENTS, At, DeclareParty
from wexicon.core.dialogue.program import Program, check_program
from wexicon.core.dialogue.statements import Needs
from wexicon.core.faults import Complaint, FileFault
from wexicon.core.protocol.dialect import compiled
from wexicon.core.text import counted, has_control, nearest, visible

LONGEST_DIALOGUE = 1_048_576
DEEPEST = 30
MOST_COMPLAINTS = 50
STATEMENTS = {**statements.STATEMENTS, **PARTY_STATEMENTS}
BLOCKS: dict[str, type[blocks.Block]] = {**blocks.BLOCKS, At.word: At}
WORDS = (*STATEMENTS, *BLOCKS, "await", "when", "otherwise")


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
            if unseen := next((at for at, char in enumerate(body) if has_control(char) and char != "\t"), None):
                hint = "in a >> line and between quotes it is written as \\r, \\n or \\x1A"
                self.complain(number, len(line) - len(body) + unseen + 1, "a control character", hint)
            self.lines.append(SourceLine(number, len(line) - len(body), body))
        self.at = 0
        self.with_block: dict[str, Callable[[SourceLine, Words, int], Statement]] = {
            **dict.fromkeys(BLOCKS, self.read_block),
            "await": self.read_await,
            "when": self.read_when,
        }

    def complain(self, number: int, column: int, what: str, hint: str = "") -> None:
        source = visible(self.all[number - 1][:200]).replace("\\\\", "\\")
        self.complaints.append(Complaint(what, "", number, max(1, column), source, hint))

    def complain_of(self, line: SourceLine, fault: StatementFault) -> None:
        self.complain(line.number, line.indent + fault.column, fault.what, fault.hint)

    def program(self) -> Program:
        statements: Body = ()
        while self.at < len(self.lines):
            if self.lines[self.at].indent:
                self.complain(self.lines[self.at].number, 1, "indented below nothing", "take the spaces away")
            statements += self.block(self.lines[self.at].indent, 0)
        program = Program(statements, self.path)
        for found in check_program(program):
            self.complain(found.line, 1, found.what, found.hint)
        if self.complaints:
            unique = {(c.line, c.what): c for c in reversed(self.complaints)}
            told = sorted(unique.values(), key=lambda c: (c.line, c.column))
            if len(told) > MOST_COMPLAINTS:
                told = [*told[:MOST_COMPLAINTS], Complaint(f"and {counted(len(told) - MOST_COMPLAINTS, 'more error')}")]
            raise FileFault(self.path, told)
        return program

    # -- blocks -------------------------------------------------------------------------------------------------

    def block(self, indent: int, depth: int) -> Body:
        """The statements from here on that stand at this indentation."""
        statements: list[Statement] = []
        while self.at < len(self.lines) and self.lines[self.at].indent >= indent:
            line = self.lines[self.at]
            if line.indent > indent:
                what = "indented further than the line above"
                self.complain(line.number, indent + 1, what, "only a block is indented")
                self.block(line.indent, depth + 1) if depth < DEEPEST else self.skip()
                continue
            if depth > DEEPEST:
                self.complain(line.number, line.indent + 1, f"nested more than {DEEPEST} deep")
                self.skip()
                continue
            try:
                statements.append(self.statement(line, depth))
            except StatementFault as fault:
                self.complain_of(line, fault)
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

    def below(self, line: SourceLine, depth: int, *, required: bool = True) -> Body:
        """The block below a line."""
        if self.at < len(self.lines) and self.lines[self.at].indent > line.indent:
            return self.block(self.lines[self.at].indent, depth + 1)
        if required:
            raise StatementFault("nothing stands below it", 1, "indent what belongs to it")
        return ()

    # -- statements ---------------------------------------------------------------------------------------------

    def statement(self, line: SourceLine, depth: int) -> Statement:
        text = line.text
        if text.startswith(">"):
            return self.say(line, depth)
        if text[0] in "<|":
            raise StatementFault(
                "nothing was said that this could answer", 1, f"a {text[0]} line stands below a > line"
            )
        name = text.split(None, 1)[0]
        if name == "otherwise":
            raise StatementFault("there is no `when` before it", 1)
        self.at += 1
        words = self.words_behind(name, text, line.number)
        if name in self.with_block:
            return self.with_block[name](line, words, depth)
        if name not in STATEMENTS:
            close = nearest(name, WORDS)
            known = f"a line begins with >, >>, <, <*, | or one of {', '.join(WORDS)}"
            hint = f"did you mean {close}?" if close else known
            if name[:2].upper() == "AT":
                hint = "write > before a line to say; a file of plain lines has another ending than .wex"
            raise StatementFault(f"there is no statement {visible(name)[:40]}", 1, hint)
        made = STATEMENTS[name].read(words)
        if isinstance(made, Needs | DeclareParty) and depth:
            raise StatementFault("may only stand at the margin", 1, "put it at the top of the file")
        return made

    @staticmethod
    def words_behind(name: str, text: str, line: int, shift: int = 0) -> Words:
        rest = text[len(name) :].strip()
        column = text.find(rest, len(name)) + 1 if rest else len(text) + 1
        return Words(rest, column + shift, line)

    def literal(self, line: SourceLine, mark: str) -> Words:
        """What stands behind a mark, one blank between."""
        source = line.text[len(mark) :]
        source = source[1:] if source.startswith(" ") else source
        return Words(source, len(line.text) - len(source) + 1, line.number)

    def say(self, line: SourceLine, depth: int) -> Say:
        exact = line.text.startswith(">>")
        words = self.literal(line, ">>" if exact else ">")
        self.at += 1
        try:
            made = words.template(exact=exact)
        except StatementFault as fault:
            self.complain_of(line, fault)
            made = template("")
        hears: list[Hear] = []
        others: list[Other] = []
        silent = False
        while self.at < len(self.lines):
            here = self.lines[self.at]
            if here.indent != line.indent or here.text[0] not in "<|":
                break
            if here.text[0] == "|":
                others += self.other(here, depth)
                continue
            self.at += 1
            if here.text.rstrip() == "<":
                silent = True
                continue
            if found := self.heard(here):
                if others:
                    self.complain(here.number, here.indent + 1, "a < line below a | line", "put all < lines first")
                hears += found
        if silent and (hears or others):
            what = "a < with nothing after it says that nothing answers"
            self.complain(line.number, line.indent + 1, what, "take it away")
        return Say(
            tuple(hears),
            tuple(others),
            source=words.text,
            template=made,
            exact=exact,
            silent=silent,
            line=line.number,
        )

    def heard(self, line: SourceLine) -> list[Hear]:
        """A `<` line; none where it cannot be read."""
        gather = line.text.startswith("<*")
        words = self.literal(line, "<*" if gather else "<")
        quoted = re.fullmatch(r'"(.*)"\s*', words.text)
        try:
            if quoted and not gather:
                prompt = quoted[1]
                if not prompt or "{" in prompt or "}" in prompt or "\\" in prompt or '"' in prompt:
                    raise words.fault("a prompt is plain text", 'write it in quotes: "> "')
                return [Hear(compiled(prompt.replace("...", "{...}")), prompt=True, line=line.number)]
            return [Hear(words.pattern(), gather, line=line.number)]
        except StatementFault as fault:
            self.complain_of(line, fault)
            return []

    def other(self, line: SourceLine, depth: int) -> list[Other]:
        """A `|` line: a pattern, two spaces and a statement, or a block below; none where it cannot be read."""
        self.at += 1
        source = line.text[1:].lstrip(" ")
        words = Words(source, len(line.text) - len(source) + 1, line.number)
        try:
            for gap in re.finditer(r" {2,}", source):
                rest = source[gap.end() :]
                word = rest.split(" ", 1)[0]
                if word in STATEMENTS and word != "needs":
                    made = words.part(0, source[: gap.start()]).pattern()
                    arguments = self.words_behind(word, rest, line.number, words.column - 1 + gap.end())
                    then: OneLine = STATEMENTS[word].read(arguments)
                    return [Other(made, (then,), line.number)]
            for gap in re.finditer(r" {2,}(?=([a-z]+)\b)", source):
                if close := nearest(gap[1], STATEMENTS):
                    misspelt = words.part(gap.end(), gap[1])
                    raise misspelt.fault(f"there is no statement {gap[1]}", f"did you mean {close}?")
            if not source:
                raise words.fault("no pattern", "write | PATTERN  STATEMENT")
            made = words.pattern()
        except StatementFault as fault:
            self.complain_of(line, fault)
            self.below(line, depth, required=False)
            return []
        return [Other(made, self.below(line, depth, required=False), line.number)]

    # -- statements with a block ----------------------------------------------------------------------------------

    def read_block(self, line: SourceLine, words: Words, depth: int) -> Statement:
        name = line.text.split(None, 1)[0]
        parts = BLOCKS[name].read(words)
        # Without a block `allow` is for the next exchange, and `at NAME data` only turns a party to data.
        required = name != "allow" and not parts.get("data")
        return BLOCKS[name](**parts, body=self.below(line, depth, required=required), line=line.number)

    def read_await(self, line: SourceLine, words: Words, depth: int) -> Statement:
        if bare := re.fullmatch(rf"(\S+)\s+({'|'.join(Await.BARE)})", words.text):
            return Await((), (), duration=words.part(0, bare[1]).duration(), bare=bare[2], line=line.number)
        form = re.fullmatch(rf"(\S+)(\s+queued)?(?:\s+as\s+({NAME}))?\s*", words.text)
        duration = words.part(0, form[1]).duration() if form else words.duration()
        hears: list[Hear] = []
        others: list[Other] = []
        indent = self.lines[self.at].indent if self.at < len(self.lines) else 0
        start = self.at
        while self.at < len(self.lines) and self.lines[self.at].indent > line.indent:
            here = self.lines[self.at]
            if here.indent != indent:
                self.complain(here.number, here.indent + 1, "indented otherwise than the line above")
            if here.text.startswith("|"):
                others += self.other(here, depth)
                continue
            self.at += 1
            marked = here.text if here.text.startswith("<") else f"< {here.text}"
            shift = len(marked) - len(here.text)
            for hear in self.heard(SourceLine(here.number, here.indent - shift, marked)):
                if hear.prompt or hear.gather:
                    self.complain(here.number, here.indent + 1, "an event is neither a prompt nor gathered")
                hears.append(hear)
        if self.at == start:
            raise StatementFault("nothing stands below it", 1, "indent the events that must come, one a line")
        queued, as_name = (bool(form[2]), form[3] or "") if form else (False, "")
        return Await(tuple(hears), tuple(others), duration=duration, as_name=as_name, queued=queued, line=line.number)

    def read_when(self, line: SourceLine, words: Words, depth: int) -> Statement:
        condition = words.expression()
        branches = [(condition, self.below(line, depth))]
        last = False
        while self.at < len(self.lines) and not last:
            here = self.lines[self.at]
            found = re.fullmatch(r"otherwise(?:\s+when\s+(.+))?\s*", here.text)
            if here.indent != line.indent or not found:
                break
            self.at += 1
            last = not found[1]
            try:
                given = Words(found[1].strip(), found.start(1) + 1, here.number).expression() if found[1] else None
                branches.append((given, self.below(here, depth)))  # type: ignore[arg-type]
            except StatementFault as fault:
                self.complain_of(here, fault)
                self.skip_block(here)
        return When(tuple(branches), line=line.number)


_COMMENT = re.compile(r"\s*(#|//)")


def is_plain(text: str) -> bool:
    """Whether a text has lines to say and none of them is marked as a dialogue's is."""
    lines = [line for line in text.splitlines() if line.strip() and not _COMMENT.match(line)]
    return bool(lines) and not any(line.lstrip()[:1] in (">", "<", "|") for line in lines)


def read_plain_lines(text: str, path: str) -> Program:
    """The program of a text of plain lines. Raises FileFault."""
    return msgspec.structs.replace(read_dialogue(as_dialogue(text), path), plain=True)


def as_dialogue(text: str) -> str:
    """The dialogue as text."""
    return "\n".join(map(_marked, text.replace("\r\n", "\n").split("\n")))


def _marked(line: str) -> str:
    if not line.strip():
        return ""
    if comment := _COMMENT.match(line):
        return f"# {line[comment.end() :].strip()}".rstrip()
    said = line.strip(" \t").replace("{", "{{").replace("}", "}}")
    return f"> {said}"
