"""A stand-in that answers as a module once did: the same words after the same time.

The rule: it knows only what was recorded. A command is looked for from the current position, then from its
beginning; what was never said is not answered. Where a secret was left out of the recording, anything fits. Keys and power
do nothing to it: what they did is in the recording.
"""

from __future__ import annotations

import contextlib
import re
from bisect import bisect_left
from collections.abc import Callable, Sequence

from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.framing import Piece
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.layers import Numbering, cutter, stacked
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.speech import LINE_ENDS, Speech
from wexicon.core.text import HIDDEN, to_bytes
from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import StandIn

LINE_END = "\r\n"
# The roles of what a module answers.
ANSWERS = ("answer", "word", "ok", "error", "prompt")


class Recording(StandIn):
    """`load` must be called before it has power."""

    family = "recording"
    about = "answers as a module did in a trace"

    def load(self, recorded: Recorded) -> None:
        """Takes the recording."""
        self.recorded = recorded
        self.opening = next((one for one in recorded.exchanges[:1] if one.said is None), None)
        self.spoken = [one for one in recorded.exchanges if one.said is not None]
        end = recorded.end if recorded.end in LINE_ENDS else "crlf"
        speech = Speech(end=end, answer=recorded.form, layers=recorded.layers)
        self.dialect = Dialect(speech if not speech.faults() else Speech())
        # Where something is around each line, commands are compared without it.
        self.layers = stacked(self.dialect.speech) if self.dialect.speech.layers else ()
        self.cutter = cutter(self.dialect.speech, self.layers, ())
        # The secrets that the recording left out, if given.
        self.fill: Callable[[str], str] = lambda text: text
        self.said = [self.encoded(one.said or "", exact=one.exact) for one in self.spoken]
        # Recorded commands by their bytes, in order; any text matches a secret that was left out.
        self.exact: dict[bytes, list[int]] = {}
        self.loose: list[tuple[int, re.Pattern[bytes]]] = []
        for index, said in enumerate(self.said):
            if to_bytes(HIDDEN) in said:
                self.loose.append((index, _fitting(said)))
            else:
                self.exact.setdefault(said, []).append(index)
        self.sorted = sorted(self.exact)
        self.position = 0
        self.under_way = False

    def encoded(self, text: str, *, exact: bool = False) -> bytes:
        """The bytes that were said; what is no line of this form is taken as it stands."""
        if self.layers:
            return to_bytes("".join(text.split()).upper() if self.dialect.speech.in_digits else text)
        try:
            return self.dialect.encode(text, exact=exact)
        except InsertionFault:
            return to_bytes(text)

    def power(self, on: bool) -> None:
        """Its power stays: that the module lost it is in the recording."""
        if on and not self.powered:
            super().power(True)

    def operate(self, act: str) -> None:
        pass

    def started(self) -> None:
        self.buffer = b""
        self.uart.tuning = self.opening.tuning if self.opening else self.recorded.tuning
        if self.spoken and not self.opening:
            # Where it was looked for before it answered, it was not.
            answered = (one for one in self.spoken if any(role in ANSWERS for _, _, role in one.heard))
            first = next(answered, self.spoken[0])
            self.uart.tuning = first.tuning
        if self.opening:
            self.play(self.opening, self.agenda.now)

    def heard(self, data: bytes, began: float) -> None:
        if self.layers:
            self.inside(self.cutter.feed(data, self.agenda.now), began)
            if (due := self.cutter.deadline) is not None:
                wait = due - self.agenda.now
                self.after(wait, lambda: self.inside(self.cutter.elapse(self.agenda.now), began))
            return
        self.buffer += data
        self.look(began)

    def inside(self, pieces: Sequence[Piece], began: float) -> None:
        """Whole lines or frames have come: what is in them is looked for."""
        for layer in self.layers:
            layer.station = self.uart.tuning.station
            if isinstance(layer, Numbering):
                layer.number = None
            pieces = layer.feed(pieces)
        for piece in pieces:
            if isinstance(piece, str):
                self.buffer = to_bytes(piece)
                self.look(began)

    def look(self, began: float) -> None:
        """Answers what is in the buffer, if it was recorded."""
        fitting = [index for index, form in self.loose if form.fullmatch(self.buffer)]
        if places := self.exact.get(self.buffer):
            # From where the recording stands on, or else from its beginning.
            fitting.append(places[bisect_left(places, self.position) % len(places)])
        if fitting:
            self.answer(min(fitting, key=lambda index: (index < self.position, index)), began)
            return
        if len(self.buffer) > 65_536 or (self.buffer.endswith((b"\r", b"\n")) and not self.may_go_on()):
            self.buffer = b""

    def answer(self, index: int, began: float) -> None:
        """Plays one exchange, and goes over to the rate of the next."""
        self.buffer = b""
        self.position = (index + 1) % len(self.spoken)
        self.play(self.spoken[index], began)
        following = self.spoken[self.position].tuning
        last = max((at for at, _, _ in self.spoken[index].heard), default=0.0)
        self.after(max(0.0, began + last - self.agenda.now), lambda: self.retune(following))

    def retune(self, tuning: Tuning) -> None:
        self.uart.tuning = tuning

    def may_go_on(self) -> bool:
        """Whether more bytes could make the buffer something that was said."""
        at = bisect_left(self.sorted, self.buffer)
        return bool(self.loose) or (at < len(self.sorted) and self.sorted[at].startswith(self.buffer))

    def play(self, exchange: RecordedExchange, began: float) -> None:
        before = 0.0
        # Where silence ends a piece it is recorded once that was over.
        gap = self.dialect.gap if self.dialect.form in ("bytes", "silence") else 0.0
        for at, text, role in exchange.heard:
            data = self.sent(self.fill(text), role)
            # The recording has the time at which the last byte had come; it is sent that much earlier, and in its order.
            before = max(before, began + at - gap - self.agenda.now - exchange.tuning.wire_time(len(data)))
            self.say(data, before)

    def sent(self, text: str, role: str) -> bytes:
        """A piece as it was on the wire."""
        if self.layers:
            for layer in self.layers:
                if isinstance(layer, Numbering):
                    layer.repeat()
            with contextlib.suppress(InsertionFault):
                data = self.dialect.encode(text, layers=self.layers)
                return (
                    data
                    if self.dialect.speech.in_digits
                    else data.removesuffix(self.dialect.line_end.encode()) + b"\r\n"
                )
        if self.dialect.speech.in_digits:
            with contextlib.suppress(ValueError):
                return bytes.fromhex(text)
        bare = role == "prompt" or self.dialect.form in ("bytes", "silence")
        return to_bytes(text if bare else text + LINE_END)


def _fitting(said: bytes) -> re.Pattern[bytes]:
    parts = said.split(to_bytes(HIDDEN))
    return re.compile(b"[^\r\n]*?".join(re.escape(part) for part in parts), re.DOTALL)
