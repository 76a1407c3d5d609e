"""Cuts the bytes of a module into frames by the length that each of them tells.

The rule: the pieces are the same however the bytes were split on their way, and the work is in proportion to the bytes. A frame
whose sum is wrong may hide the start of a right one, which is looked for a few times; a frame that is not whole when the line
has been silent for the gap is corrupt.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wexicon.core.protocol.fields import Number
from wexicon.core.protocol.framing import Corrupt, Piece
from wexicon.core.text import to_text

LONGEST_FRAME = 8192
# How often the start of a frame is looked for inside one that was wrong.
_TRIES = 4


class FrameCutter:
    """`mark` is how each frame starts; `at` where its length is, of this `form`; `rest` what is added to that for the whole
    frame; `whole` whether the bytes of a frame are right. `gap` is the silence in seconds that ends an incomplete frame,
    `deadline` when that will be. `prompts` are not looked for."""

    def __init__(
        self, mark: bytes, at: int, form: Number, rest: int, whole: Callable[[bytes], bool], gap: float = 0.06
    ) -> None:
        self.mark, self.at, self.form, self.rest, self.whole, self.gap = mark, at, form, rest, whole, gap
        self.prompts: Sequence[bytes] = ()
        self.deadline: float | None = None
        self._buffer = bytearray()
        self._noise = bytearray()
        self._tries = _TRIES

    @property
    def pending(self) -> str:
        """What has come of a frame that is not yet whole."""
        return to_text(bytes(self._buffer))

    def forget(self) -> None:
        """Forgets what is not whole."""
        self._buffer.clear()
        self._noise.clear()
        self.deadline = None

    def feed(self, data: bytes, now: float) -> list[Piece]:
        """Takes in bytes that came at the time `now`; gives the frames that are whole."""
        pieces = self.elapse(now)
        self._buffer += data
        pieces += self._cut()
        self.deadline = now + self.gap if self._buffer else None
        return pieces

    def elapse(self, now: float) -> list[Piece]:
        """Time has passed: an incomplete frame may have ended by silence; a whole one may begin inside it."""
        if self.deadline is None or now < self.deadline:
            return []
        return self.release()

    def release(self) -> list[Piece]:
        """All that is there, whole or not: the other side will send no more."""
        pieces: list[Piece] = []
        while self._buffer:
            self._skip(self._buffer.find(self.mark, 1) if self.mark and self._tries > 0 else -1)
            pieces += self._cut()
        self.deadline = None
        return pieces + self._noise_as_piece()

    def look_again(self) -> list[Piece]:
        """Nothing: prompts are not looked for."""
        return []

    def _skip(self, to: int) -> None:
        """What is before `to`, or all of it, belongs to no frame."""
        self._tries -= 1
        end = to if to > 0 else len(self._buffer)
        self._noise += self._buffer[:end]
        del self._buffer[:end]

    def _noise_as_piece(self) -> list[Piece]:
        noise = bytes(self._noise)
        self._noise.clear()
        return [Corrupt(to_text(noise))] if noise else []

    def _cut(self) -> list[Piece]:
        buffer, pieces = self._buffer, []
        while buffer:
            start = buffer.find(self.mark)
            if start < 0:
                # The last bytes may be the start of a mark.
                keep = next((size for size in range(len(self.mark) - 1, 0, -1) if buffer.endswith(self.mark[:size])), 0)
                self._noise += buffer[: len(buffer) - keep]
                del buffer[: len(buffer) - keep]
                break
            self._noise += buffer[:start]
            del buffer[:start]
            size = self.form.take(bytes(buffer[self.at : self.at + self.form.size]))
            if size is None:
                if len(buffer) < self.at + self.form.size:
                    break
                self._skip(buffer.find(self.mark, 1))
                continue
            total = size + self.rest
            if not self.at + self.form.size <= total <= LONGEST_FRAME:
                self._skip(buffer.find(self.mark, 1) if self.mark else -1)
                continue
            if len(buffer) < total:
                break
            frame = bytes(buffer[:total])
            if self.whole(frame):
                pieces += [*self._noise_as_piece(), to_text(frame)]
                self._tries = _TRIES
                del buffer[:total]
            elif self.mark and self._tries > 0:
                self._skip(buffer.find(self.mark, 1))
            else:
                self._skip(total)
                self._tries = _TRIES
        if not buffer or len(self._noise) > LONGEST_FRAME:
            return pieces + self._noise_as_piece()
        return pieces
