"""Layers that put something around each frame or line: a mark at its start, its length, a sum, the station, a running number.

The rule: each adds its own on the way down and takes it off on the way up, in the bytes that it gets from the layer below. What
does not fit is corrupt, or for another station; it never answers.
"""

from __future__ import annotations

from collections.abc import Sequence

from wexicon.core.protocol.fields import FieldFault, Number
from wexicon.core.protocol.framing import Corrupt, Foreign, Piece
from wexicon.core.protocol.layers.base import Layer, LayerFault
from wexicon.core.standards.checksums import CHECKS
from wexicon.core.text import to_bytes, to_text


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


class Mark(Envelope):
    """Bytes at the start of each frame."""

    def __init__(self, mark: bytes) -> None:
        self.mark = mark

    def around(self, data: bytes) -> bytes:
        return self.mark + data

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        return data[len(self.mark) :] if data.startswith(self.mark) else _corrupt(data)


class Length(Envelope):
    """How many bytes follow the field, `plus` so many; `at` bytes go before it."""

    def __init__(self, form: Number, at: int = 0, plus: int = 0) -> None:
        self.form, self.at, self.plus = form, at, plus

    def around(self, data: bytes) -> bytes:
        if len(data) < self.at:
            raise FieldFault(f"the length stands after {self.at} bytes, and there are {len(data)}")
        return data[: self.at] + self.form.put(len(data) - self.at + self.plus) + data[self.at :]

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        end = self.at + self.form.size
        size = self.form.take(data[self.at : end])
        return data[: self.at] + data[end:] if size == len(data) - end + self.plus else _corrupt(data)


class Sum(Envelope):
    """A sum at the end, over all bytes from `start` on; `before` and `after` are what stands around it."""

    def __init__(self, check: str, form: Number, start: int = 0, before: bytes = b"", after: bytes = b"") -> None:
        self.width, self.check = CHECKS[check]
        self.form, self.start, self.before, self.after = form, start, before, after
        self.size = len(before) + form.size + len(after)

    def around(self, data: bytes) -> bytes:
        return data + self.before + self.form.put(self.check(data[self.start :])) + self.after

    def fits(self, data: bytes) -> bool:
        """Whether the sum of these bytes is right."""
        body, end = data[: -self.size], data[-self.size :]
        if len(data) < self.size or not (end.startswith(self.before) and end.endswith(self.after)):
            return False
        given = self.form.take(end[len(self.before) : len(self.before) + self.form.size])
        return given == self.check(body[self.start :])

    def inside(self, data: bytes) -> bytes | Corrupt | Foreign:
        return data[: -self.size] if self.fits(data) else _corrupt(data)


class Station(Envelope):
    """The number of the module that is spoken to, at the start; `usual` as delivered. What comes from another one is told as
    such."""

    def __init__(self, form: Number, usual: int, before: bytes = b"", after: bytes = b"") -> None:
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

    def __init__(self, form: Number, first: int = 1, last: int = 0, unasked: int = 0) -> None:
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
