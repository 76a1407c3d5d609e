"""Layers for lines of text: sentences with their checksum, escape sequences of terminals, answers in pages; bytes in digits.

The rule: nothing of an answer is lost but what the layer is for.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from wexicon.core.protocol.framing import Corrupt, Piece, Prompt
from wexicon.core.protocol.keyed import as_object
from wexicon.core.protocol.layers.base import Layer, LayerFault
from wexicon.core.standards.nmea import checksum, with_checksum
from wexicon.core.text import to_bytes, to_text


class Checksum(Layer):
    """Sentences with a checksum (NMEA 0183): it is added and checked. What another rate, or a lost line ending, has put before
    a sentence is cut off where the last one starts."""

    _SENTENCE = re.compile(r"[$!]([\x20-\x29\x2b-\x7e]*)\*([0-9A-Fa-f]{2})")

    def encode(self, text: str) -> str:
        return with_checksum(text)

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        made: list[Piece] = []
        for piece in pieces:
            if isinstance(piece, str):
                made += self._sentences(piece)
            else:
                made.append(piece)
        return made

    def _sentences(self, line: str) -> list[Piece]:
        piece = self._sentence(line)
        start = max(line.rfind("$"), line.rfind("!"))
        if start > 0 and (isinstance(piece, Corrupt) or line[:1] not in ("$", "!")):
            last = self._sentence(line[start:])
            if not isinstance(last, Corrupt):
                return [Corrupt(line[:start]), last]
        return [piece]

    def _sentence(self, line: str) -> Piece:
        """A line as a sentence: corrupt if it starts like one and its checksum is wrong."""
        if line[:1] not in ("$", "!"):
            return line
        found = self._SENTENCE.fullmatch(line)
        return line if found and checksum(found[1].encode()) == int(found[2], 16) else Corrupt(line)


class Hexadecimal(Layer):
    """Raw bytes, said and heard in hexadecimal digits."""

    def encode(self, text: str) -> str:
        try:
            return to_text(bytes.fromhex(text))
        except ValueError:
            raise LayerFault(f"{text!r} is not bytes in hexadecimal, which this module expects") from None

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        return [to_bytes(piece).hex().upper() if isinstance(piece, str) else piece for piece in pieces]


class Objects(Layer):
    """Lines that are JSON objects: keys and values become one on the way down."""

    def encode(self, text: str) -> str:
        try:
            return as_object(text)
        except ValueError as fault:
            raise LayerFault(f'{fault}; this module expects keys and values, as in: do "set", power 14') from None

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        return [piece.strip() if isinstance(piece, str) else piece for piece in pieces]


class Colours(Layer):
    """Escape sequences of terminals (ECMA-48), which colour text or move the cursor, are left out of what comes."""

    _SEQUENCE = re.compile("\x1b(?:\\[[0-?]*[ -/]*[@-~]|[@-Z\\\\-_])")

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        made = [self.plain(piece) if isinstance(piece, str) else piece for piece in pieces]
        return [piece for piece in made if piece]

    @classmethod
    def plain(cls, text: str) -> str:
        """A text without them."""
        return cls._SEQUENCE.sub("", text)


class Pager(Layer):
    """Answers in pages: the mark at the end of a page is answered with what brings the next one. What erases the mark, spaces
    and backspaces, is left out of what comes."""

    _ERASED = re.compile("^[ \x08]*\x08[ \x08]*")

    def __init__(self, mark: str, goes_on: str) -> None:
        self.mark, self.goes_on = mark, to_bytes(goes_on)

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        self.due += self.goes_on * sum(isinstance(one, Prompt) and one.text == self.mark for one in pieces)
        made = [self._ERASED.sub("", piece) if isinstance(piece, str) else piece for piece in pieces]
        return [piece for piece in made if not isinstance(piece, str) or piece.strip()]
