"""Statements that name a party of a dialogue.

The rule: as for all statements: frozen, compiled when read. Where there are parties, each line that is said or heard stands in
an `at` block.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import ClassVar

from wexicon.core.dialogue.blocks import Block
from wexicon.core.dialogue.lines import NAME, QuotedText, Words
from wexicon.core.dialogue.statements import Naming, OneLine

_DATA = "data"


class DeclareParty(OneLine, frozen=True):
    """`party NAME [= LEXICON]`: a module that takes part, on a port of its own."""

    word: ClassVar[str] = "party"
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"({NAME})(?:\s*=\s*([A-Za-z0-9_.\-]+))?")
    name: str
    lexicon: str = ""

    @classmethod
    def read(cls, words: Words) -> DeclareParty:
        found = words.taken(cls._form, "write party NAME = LEXICON, or party NAME")
        return cls(found[1], found[2] or "", line=words.line)

    def rest(self) -> str:
        return f"{self.name} = {self.lexicon}" if self.lexicon else self.name


class Open(OneLine, frozen=True):
    """`open NAME "URL" [refused]`: a socket of this machine becomes a party: socket://HOST:PORT, or listen://HOST:PORT for a
    server that one client can reach. With `refused` nothing may answer there."""

    word: ClassVar[str] = "open"
    _form: ClassVar[re.Pattern[str]] = re.compile(rf'({NAME})\s+("(?:[^"\\]|\\.)*")(\s+refused)?')
    name: str
    url: QuotedText
    refused: bool = False

    @classmethod
    def read(cls, words: Words) -> Open:
        found = words.taken(cls._form, 'write open NAME "socket://127.0.0.1:80", or "listen://127.0.0.1:7007"')
        return cls(found[1], words.part(found.start(2), found[2]).quoted(), bool(found[3]), line=words.line)

    def rest(self) -> str:
        return f"{self.name} {self.url.wording()}" + (" refused" if self.refused else "")

    def expressions(self) -> Iterable[Naming]:
        return (self.url.template,)


class Close(OneLine, frozen=True):
    """`close NAME`: closes a socket."""

    word: ClassVar[str] = "close"
    name: str

    @classmethod
    def read(cls, words: Words) -> Close:
        if not re.fullmatch(NAME, words.text):
            raise words.fault("no name", "write close NAME")
        return cls(words.text, line=words.line)

    def rest(self) -> str:
        return self.name


class At(Block, frozen=True, kw_only=True):
    """`at NAME [data]` and a block: what is said and heard there. With `data` the module passes everything on, and what is said
    needs no result code."""

    word: ClassVar[str] = "at"
    _form: ClassVar[re.Pattern[str]] = re.compile(rf"({NAME})(?:\s+({_DATA}))?")
    name: str
    data: bool = False

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        found = words.taken(cls._form, f"write at NAME, or at NAME {_DATA}")
        return {"name": found[1], "data": bool(found[2])}

    def rest(self) -> str:
        return f"{self.name} {_DATA}" if self.data else self.name


PARTY_STATEMENTS: dict[str, type[OneLine]] = {one.word: one for one in (DeclareParty, Open, Close)}
