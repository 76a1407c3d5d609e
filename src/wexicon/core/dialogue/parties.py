"""The parties of a dialogue (modules on their ports, sockets of this machine), and the statements that name one.

The rule: all parties are read all the time; events of each are kept until an `await` takes them. Where there are parties,
each line that is said or heard is in an `at` block.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import ClassVar

from wexicon.core.dialogue.blocks import Block, ModuleActions
from wexicon.core.dialogue.lines import NAME, OneLine, QuotedText, Words
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.session import Session


class Party:
    """One side of a dialogue. `module` does what its lexicon says; `data` is whether what is said is passed on as it is, as a
    socket and a module in data mode do. `listen` enters command mode, `pass_data` makes ready for data mode; `held` is whether
    it still takes commands, as far as known: an action may have ended that."""

    def __init__(
        self,
        name: str,
        session: Session,
        module: ModuleActions | None = None,
        operator: Operator | None = None,
        *,
        is_socket: bool = False,
        listen: Callable[[], object] | None = None,
        pass_data: Callable[[], object] | None = None,
        held: Callable[[], bool] = lambda: True,
    ) -> None:
        self.name = name
        self.session = session
        self.module = module
        self.operator = operator or NoOperator()
        self.is_socket = self.data = is_socket
        self._listen = listen
        self._pass_data = pass_data
        self._held = held
        self._listens = listen is None
        # When it changed its mode, or an operator was asked to do something with it: events of before are over.
        self.fresh_since = session.clock.now()
        # The values whose lengths the other side has just been told, and whether it has just sent a prompt.
        self.counted: dict[str, object] = {}
        self.prompted = False

    def be_listening(self) -> None:
        """Enters command mode, if that was not done since it was left. Raises Fault."""
        if self._listen and not self.data and not (self._listens and self._held()):
            self._listens = True
            self.fresh_since = self.session.clock.now()
            self._listen()

    def turn_to_data(self) -> None:
        """From now on it passes everything on."""
        if not self.data:
            self.data, self._listens = True, False
            self.fresh_since = self.session.clock.now()
            if self._pass_data:
                self._pass_data()

    def turn_to_commands(self) -> None:
        """From now on it takes commands again, once command mode was entered."""
        self.data = self.is_socket


def hear_each_other(parties: Sequence[Party]) -> None:
    """While one of these is waited for, the others are heard too."""
    for party in parties:
        party.session.beside = tuple(other.session for other in parties if other is not party)


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
