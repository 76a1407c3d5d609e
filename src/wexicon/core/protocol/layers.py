"""The layers between bytes and lines, as a lexicon stacks them: each changes what passes it, downwards by `encode`, upwards by
`feed`.

The rule: a layer knows nothing of the ones above and below it. Each adds its own on the way down (a mark, a length, a
checksum, the station, a running number) and takes it off on the way up; what does not fit is corrupt, or for another station,
and never answers. The cutter at the bottom cuts bytes to pieces; a family that uses no layer pays nothing.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from wexicon.core.protocol.fields import FieldFault, NumberForm, field
from wexicon.core.protocol.framing import Corrupt, Foreign, FrameCutter, Framer, Piece, Prompt
from wexicon.core.protocol.keyed import as_object
from wexicon.core.protocol.patterns import Header
from wexicon.core.protocol.speech import (
    ChecksumTable,
    LayerTable,
    LengthTable,
    MarkTable,
    NumberTable,
    Speech,
    StationTable,
)
from wexicon.core.standards.checksums import CHECKS
from wexicon.core.standards.gnss import checksum, with_checksum
from wexicon.core.text import to_bytes, to_text


class LayerFault(ValueError):
    """A line cannot be encoded."""


class Layer:
    """One layer; this one changes nothing. `due` is what it has to send at once so that the answer goes on; whoever sends it
    empties it. `station` is which module is spoken to, if several share the line; None: as the lexicon says."""

    due = b""
    station: int | None = None

    def encode(self, text: str) -> str:
        """A line on its way down. Raises LayerFault."""
        return text

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        """Pieces on their way up."""
        return list(pieces)


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


class Envelope(Layer):
    """What the layers here share: `around` puts on, `inside` takes off."""

    def around(self, data: bytes) -> bytes:
        """Bytes on their way down. Raises FieldFault."""
        raise NotImplementedError

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        """Bytes on their way up."""
        raise NotImplementedError

    def encode(self, text: str) -> str:
        try:
            return to_text(self.around(to_bytes(text)))
        except FieldFault as fault:
            raise LayerFault(str(fault)) from None

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        made: list[Piece] = []
        for piece in pieces:
            found = self.inside(to_bytes(piece)) if isinstance(piece, str) else piece
            made.append(to_text(found) if isinstance(found, bytes) else found)
        return made


def _corrupt(data: bytes) -> Corrupt:
    return Corrupt(to_text(data))


class MarkLayer(Envelope):
    """Bytes at the start of each frame."""

    def __init__(self, mark: bytes) -> None:
        self.mark = mark

    def around(self, data: bytes) -> bytes:
        return self.mark + data

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        return data[len(self.mark) :] if data.startswith(self.mark) else _corrupt(data)


class Length(Envelope):
    """How many bytes follow the field, `plus` so many; `at` bytes go before it."""

    def __init__(self, form: NumberForm, at: int = 0, plus: int = 0) -> None:
        self.form, self.at, self.plus = form, at, plus

    def around(self, data: bytes) -> bytes:
        if len(data) < self.at:
            raise FieldFault(f"the length stands after {self.at} bytes, and there are {len(data)}")
        return data[: self.at] + self.form.put(len(data) - self.at + self.plus) + data[self.at :]

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        end = self.at + self.form.size
        size = self.form.take(data[self.at : end])
        return data[: self.at] + data[end:] if size == len(data) - end + self.plus else _corrupt(data)


class FrameChecksum(Envelope):
    """A checksum at the end, over all bytes from `start` on; `before` and `after` are what stands around it."""

    def __init__(self, check: str, form: NumberForm, start: int = 0, before: bytes = b"", after: bytes = b"") -> None:
        self.width, self.check = CHECKS[check]
        self.form, self.start, self.before, self.after = form, start, before, after
        self.size = len(before) + form.size + len(after)

    def around(self, data: bytes) -> bytes:
        return data + self.before + self.form.put(self.check(data[self.start :])) + self.after

    def fits(self, data: bytes) -> bool:
        """Whether the checksum of these bytes is right."""
        body, end = data[: -self.size], data[-self.size :]
        if len(data) < self.size or not (end.startswith(self.before) and end.endswith(self.after)):
            return False
        given = self.form.take(end[len(self.before) : len(self.before) + self.form.size])
        return given == self.check(body[self.start :])

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        return data[: -self.size] if self.fits(data) else _corrupt(data)


class StationLayer(Envelope):
    """The number of the module that is spoken to, at the start; `usual` as delivered. What comes from another one is told as
    such."""

    def __init__(self, form: NumberForm, usual: int, before: bytes = b"", after: bytes = b"") -> None:
        self.form, self.usual, self.before, self.after = form, usual, before, after

    def around(self, data: bytes) -> bytes:
        number = self.usual if self.station is None else self.station
        return self.before + self.form.put(number) + self.after + data

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        start = len(self.before)
        end = start + self.form.size
        number = self.form.take(data[start:end])
        if number is None or not (data.startswith(self.before) and data.startswith(self.after, end)):
            return _corrupt(data)
        if number != (self.usual if self.station is None else self.station):
            return Foreign(to_text(data))
        return data[end + len(self.after) :]


class Numbering(Envelope):
    """A running number at the start, which the answer repeats; events have `unasked`. An answer to an earlier line is
    corrupt."""

    def __init__(self, form: NumberForm, first: int = 1, last: int = 0, unasked: int = 0) -> None:
        self.form, self.first, self.unasked = form, first, unasked
        self.last = last or (10**form.size if form.base == 10 else 16**form.size if form.base else 256**form.size) - 1
        # None before the first line: then any is taken.
        self.number: int | None = None
        self.heard: int | None = None

    def repeat(self) -> None:
        """The next line said has the number of the last one heard: it is its answer."""
        self.number = (self.heard or 0) - 1

    def around(self, data: bytes) -> bytes:
        again = self.number is None or self.number >= self.last
        self.number = self.first if again or self.number is None else self.number + 1
        return self.form.put(self.number) + data

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        self.heard = number = self.form.take(data[: self.form.size])
        return (
            data[self.form.size :] if self.number is None or number in (self.number, self.unasked) else _corrupt(data)
        )


# The layers of a form of answers.
_OF_FORM: dict[str, type[Layer]] = {"sentences": Checksum, "bytes": Hexadecimal, "frames": Hexadecimal, "json": Objects}


def stacked(speech: Speech) -> tuple[Layer, ...]:
    """The layers above the cutter, from the bottom up; empty if none is needed."""
    made: list[Layer] = [Colours()] if speech.colours else []
    if speech.more:
        made.append(Pager(speech.more.hear, speech.more.say))
    made += [_made(one, speech) for one in speech.layers]
    if speech.form in _OF_FORM:
        made.append(_OF_FORM[speech.form]())
    return tuple(made)


def _made(table: LayerTable, speech: Speech) -> Layer:
    def bytes_of(text: str) -> bytes:
        return bytes.fromhex(text) if speech.in_digits else to_bytes(text)

    if isinstance(table, MarkTable):
        return MarkLayer(bytes_of(table.mark))
    form = field(table.form_for(speech))
    assert isinstance(form, NumberForm)
    if isinstance(table, LengthTable):
        return Length(form, table.at, table.plus)
    if isinstance(table, ChecksumTable):
        return FrameChecksum(table.check, form, table.start, bytes_of(table.before), bytes_of(table.after))
    if isinstance(table, StationTable):
        return StationLayer(form, table.usual, bytes_of(table.before), bytes_of(table.after))
    assert isinstance(table, NumberTable)
    return Numbering(form, table.first, table.last, table.unasked)


def cutter(speech: Speech, layers: Sequence[Layer], headers: Sequence[Header]) -> Framer | FrameCutter:
    """What cuts the bytes of a module into pieces for these layers."""
    if speech.form != "frames":
        return Framer(speech.form, speech.gap, headers)
    ahead = behind = 0
    mark = b""
    envelopes: list[Envelope] = []
    length: Length | None = None
    for layer in layers:
        if isinstance(layer, Numbering) or not isinstance(layer, Envelope):
            break
        envelopes.append(layer)
        if length is not None:
            continue
        if isinstance(layer, MarkLayer):
            mark, ahead = mark if ahead else layer.mark, ahead + len(layer.mark)
        elif isinstance(layer, StationLayer):
            ahead += len(layer.before) + layer.form.size + len(layer.after)
        elif isinstance(layer, FrameChecksum):
            behind += layer.size
        elif isinstance(layer, Length):
            length = layer
    assert length is not None

    def whole(frame: bytes) -> bool:
        data: bytes | Corrupt | Foreign = frame
        for one in envelopes:
            if isinstance(data, bytes):
                data = one.inside(data)
        return not isinstance(data, Corrupt)

    at = ahead + length.at
    return FrameCutter(mark, at, length.form, at + length.form.size - length.plus + behind, whole, speech.gap)


__all__ = [
    "Checksum",
    "Colours",
    "Envelope",
    "FrameChecksum",
    "Hexadecimal",
    "Layer",
    "LayerFault",
    "Length",
    "MarkLayer",
    "Numbering",
    "Pager",
    "StationLayer",
    "cutter",
    "stacked",
]  # fmt: skip
