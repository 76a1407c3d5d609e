"""The stack between bytes and lines: each layer changes what passes it, downwards by `encode`, upwards by `feed`.

The rule: a layer knows nothing of the ones above and below it. The framer at the bottom cuts bytes to pieces; checksums and
hexadecimal are layers on it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Protocol

from wexicon.core.protocol.framing import Corrupt, Piece
from wexicon.core.standards.nmea import checksum, with_checksum
from wexicon.core.text import to_bytes, to_text


class LayerFault(ValueError):
    """A line cannot be encoded."""


class Layer(Protocol):
    """One layer."""

    def encode(self, text: str) -> str:
        """A line on its way down. Raises LayerFault."""

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        """Pieces on their way up."""


class Checksum:
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


class Hexadecimal:
    """Raw bytes, said and heard in hexadecimal digits."""

    def encode(self, text: str) -> str:
        try:
            return to_text(bytes.fromhex(text))
        except ValueError:
            raise LayerFault(f"{text!r} is not bytes in hexadecimal, which this module expects") from None

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        return [to_bytes(piece).hex().upper() if isinstance(piece, str) else piece for piece in pieces]


class Colours:
    """Escape sequences of terminals (ECMA-48), which colour text or move the cursor, are left out of what comes."""

    _SEQUENCE = re.compile("\x1b(?:\\[[0-?]*[ -/]*[@-~]|[@-Z\\\\-_])")

    def encode(self, text: str) -> str:
        return text

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        made = [self.plain(piece) if isinstance(piece, str) else piece for piece in pieces]
        return [piece for piece in made if piece]

    @classmethod
    def plain(cls, text: str) -> str:
        """A text without them."""
        return cls._SEQUENCE.sub("", text)


class Pager:
    """What erases the mark at the end of a page, spaces and backspaces, is left out of what comes."""

    _ERASED = re.compile("^[ \x08]*\x08[ \x08]*")

    def encode(self, text: str) -> str:
        return text

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        made = [self._ERASED.sub("", piece) if isinstance(piece, str) else piece for piece in pieces]
        return [piece for piece in made if not isinstance(piece, str) or piece.strip()]


def stacked(form: str, *, colours: bool, pages: bool) -> tuple[Layer, ...]:
    """The layers above the framer, from the bottom up, for a form of answers; empty if none is needed."""
    own: tuple[Layer, ...] = (Colours(),) if colours else ()
    return (*own, *((Pager(),) if pages else ()), *LAYERS.get(form, ()))


# The layers above the framer, by the form of answers, from the bottom up.
LAYERS: dict[str, tuple[Layer, ...]] = {"sentences": (Checksum(),), "bytes": (Hexadecimal(),)}
