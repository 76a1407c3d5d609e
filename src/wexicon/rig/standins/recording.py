"""A stand-in that answers as a module once did: the same words after the same time.

The rule: it knows only what was recorded. What is said is looked for from where the recording stands, then from its
beginning; what was never said is not answered. Where a secret was left out of the recording, anything fits.
"""

from __future__ import annotations

import re
from bisect import bisect_left

from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.secret import HIDDEN
from wexicon.core.text import to_bytes
from wexicon.core.tuning import Tuning
from wexicon.rig.standin import StandIn

LINE_END = "\r\n"


class Recording(StandIn):
    """`load` must be called before it has power."""

    family = "recording"
    about = "answers as a module did in a trace"

    def load(self, recorded: Recorded) -> None:
        """Takes the recording."""
        self.opening = next((one for one in recorded.exchanges[:1] if one.said is None), None)
        self.spoken = [one for one in recorded.exchanges if one.said is not None]
        end = LINE_ENDS.get(recorded.end, LINE_END)
        self.said = [to_bytes((one.said or "") + ("" if one.exact else end)) for one in self.spoken]
        # What was said by its bytes, in the order of the recording; where a secret was left out, anything fits.
        self.exact: dict[bytes, list[int]] = {}
        self.loose: list[tuple[int, re.Pattern[bytes]]] = []
        for index, said in enumerate(self.said):
            if to_bytes(HIDDEN) in said:
                self.loose.append((index, _fitting(said)))
            else:
                self.exact.setdefault(said, []).append(index)
        self.sorted = sorted(self.exact)

    def started(self) -> None:
        self.position = 0
        self.buffer = b""
        if self.spoken:
            self.uart.tuning = self.spoken[0].tuning
        if self.opening:
            self.uart.tuning = self.opening.tuning
            self.play(self.opening, self.agenda.now)

    def heard(self, data: bytes, began: float) -> None:
        self.buffer += data
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
        for at, text, role in exchange.heard:
            data = to_bytes(text + ("" if role == "prompt" else LINE_END))
            # The recording has the time at which the last byte had come; it is sent that much earlier.
            wait = began + at - self.agenda.now - exchange.tuning.wire_time(len(data))
            self.say(data, max(0.0, wait))


def _fitting(said: bytes) -> re.Pattern[bytes]:
    parts = said.split(to_bytes(HIDDEN))
    return re.compile(b"[^\r\n]*?".join(re.escape(part) for part in parts), re.DOTALL)
