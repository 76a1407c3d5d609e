"""A text file of AT lines, one a line, as people have them: read as a dialogue that says each and requires its success code.

The rule: blank lines and comments (`#` or `//`) are left out; every other line is said as it stands. Line numbers stay.
"""

from __future__ import annotations

import re

import msgspec

from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.reader import read_dialogue

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
