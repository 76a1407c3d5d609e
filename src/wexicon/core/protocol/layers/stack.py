"""The layers of one session, as a lexicon stacks them, and the cutter below them.

The rule: `[speech]` says what there is; a family that uses none of it has no layer and pays nothing.
"""

from __future__ import annotations

from collections.abc import Sequence

from wexicon.core.protocol.cutting import FrameCutter
from wexicon.core.protocol.fields import Number, field
from wexicon.core.protocol.framing import Corrupt, Foreign, Framer
from wexicon.core.protocol.layers.base import Layer
from wexicon.core.protocol.layers.envelope import Envelope, Length, Mark, Numbering, Station, Sum
from wexicon.core.protocol.layers.texts import Checksum, Colours, Hexadecimal, Objects, Pager
from wexicon.core.protocol.patterns import Header
from wexicon.core.protocol.speech import LayerTable, LengthTable, MarkTable, NumberTable, Speech, StationTable, SumTable
from wexicon.core.text import to_bytes

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
        return Mark(bytes_of(table.mark))
    form = field(table.form_for(speech))
    assert isinstance(form, Number)
    if isinstance(table, LengthTable):
        return Length(form, table.at, table.plus)
    if isinstance(table, SumTable):
        return Sum(table.check, form, table.start, bytes_of(table.before), bytes_of(table.after))
    if isinstance(table, StationTable):
        return Station(form, table.usual, bytes_of(table.before), bytes_of(table.after))
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
        if isinstance(layer, Mark):
            mark, ahead = mark if ahead else layer.mark, ahead + len(layer.mark)
        elif isinstance(layer, Station):
            ahead += len(layer.before) + layer.form.size + len(layer.after)
        elif isinstance(layer, Sum):
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
