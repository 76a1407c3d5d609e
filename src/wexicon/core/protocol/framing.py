"""Cuts the bytes of a module into pieces: lines, prompts, raw blocks, whatever came between two silences, or frames by the
length that each of them tells.

The rule: the pieces are the same however the bytes were split on their way, and the work is in proportion to the bytes; no
piece grows without bound. A line ends at CR, at LF, or at both; empty lines are dropped. A prompt has no line ending and
counts as soon as it is at the start of a line. A frame whose checksum is wrong may hide the start of a right one, which is
looked for a few times; a frame that is not whole when the line has been silent for the gap is corrupt.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import msgspec

from wexicon.core.protocol.fields import NumberForm
from wexicon.core.protocol.patterns import Header
from wexicon.core.text import to_text

LONGEST_LINE = 65_536
LARGEST_BLOCK = 1_048_576


class Prompt(msgspec.Struct, frozen=True):
    """A prompt: the module waits for more, on the same line."""

    text: str


class Corrupt(msgspec.Struct, frozen=True):
    """A sentence whose checksum is wrong or missing, or an overlong line that was cut."""

    text: str


class Foreign(msgspec.Struct, frozen=True):
    """What another station on the same line said."""

    text: str


# A plain text is a line without its ending, a block with its header, or what came between two silences.
Piece = str | Prompt | Corrupt | Foreign

_ENDS = re.compile(rb"[\r\n]")


class Framer:
    """Cuts what one module sends into pieces.

    `form` is how answers are cut (lines, silence, sentences, bytes), `gap` the silence in seconds that ends a piece if
    silence does, `headers` announce raw blocks. `prompts` may be changed at any time: a prompt is only looked for while it is
    awaited. `deadline` is when silence ends what has come.
    """

    def __init__(self, form: str = "lines", gap: float = 0.0, headers: Sequence[Header] = ()) -> None:
        self.form = form
        self.gap = gap
        self.prompts: Sequence[bytes] = ()
        self.deadline: float | None = None
        self._headers = headers
        self._leads = [lead for lead, _, _ in headers]
        # Where a line may begin that is a block's; those that begin with any character are looked for at each line.
        leads = b"|".join(map(re.escape, self._leads)) if all(self._leads) else b""
        self._lead = re.compile(b"(?:^|(?<=[\r\n]))(?:" + leads + b")")
        self._silent = form in ("silence", "bytes")
        self._buffer = bytearray()
        # Inside a block: how many bytes there must be before it is worth looking.
        self._need = 0
        self._overlong = False

    @property
    def pending(self) -> str:
        """What has come of a piece that is not yet whole."""
        return to_text(bytes(self._buffer))

    def forget(self) -> None:
        """Forgets what is not whole."""
        self._buffer.clear()
        self._need, self._overlong, self.deadline = 0, False, None

    def feed(self, data: bytes, now: float) -> list[Piece]:
        """Takes in bytes that came at the time `now`; gives the pieces that are whole."""
        buffer = self._buffer
        if self._silent:
            pieces = self.elapse(now)
            buffer += data
            self.deadline = now + self.gap
            return pieces + self._cut() if len(buffer) > LONGEST_LINE else pieces
        if not buffer and not self.prompts and not self._leads and data.endswith((b"\n", b"\r")):
            # Nothing is left over from before and nothing will be: the usual case.
            return self._lines(data)
        buffer += data
        if len(buffer) < self._need:
            return []
        if self.prompts or self._need or (self._leads and any(lead in buffer for lead in self._leads)):
            return self._careful()
        if b"\n" not in data and b"\r" not in data:
            return self._cut() if len(buffer) > LONGEST_LINE else []
        whole = max(buffer.rfind(b"\n"), buffer.rfind(b"\r")) + 1
        lines = buffer[:whole]
        del buffer[:whole]
        return self._lines(lines) + (self._cut() if len(buffer) > LONGEST_LINE else [])

    def elapse(self, now: float) -> list[Piece]:
        """Time has passed: where silence ends a piece, its end."""
        if self.deadline is None or now < self.deadline:
            return []
        return self.release()

    def release(self) -> list[Piece]:
        """The rest of the input as a piece, whole or not: the other side will send no more."""
        text = bytes(self._buffer)
        self.forget()
        if self.form != "bytes":
            text = text.strip(b"\r\n")
        return [to_text(text)] if text else []

    def look_again(self) -> list[Piece]:
        """The pieces that became whole because `prompts` was changed."""
        return self._careful() if self._buffer and not self._silent else []

    def _lines(self, data: bytes | bytearray) -> list[Piece]:
        """The lines in bytes that end with a line's end."""
        texts = data.decode("utf-8", "surrogateescape").replace("\r", "\n").split("\n")
        if self._overlong:
            self._overlong, texts = False, texts[1:]
        return [text for text in texts if text]

    def _cut(self) -> list[Piece]:
        text = bytes(self._buffer[:LONGEST_LINE])
        first = not self._overlong
        self.forget()
        self._overlong = not self._silent
        return [Corrupt(to_text(text))] if first else []

    def _careful(self) -> list[Piece]:
        """One piece at a time where there may be a prompt or a block; the lines between two blocks all at once."""
        buffer = self._buffer
        pieces: list[Piece] = []
        at = 0
        self._need = 0
        while True:
            if not self.prompts:
                start = self._next_lead(at)
                if start > at:
                    pieces += self._lines(buffer[at:start])
                    at = start
            while at < len(buffer) and buffer[at] in b"\r\n":
                at += 1
                self._overlong = False
            prompt = next((one for one in self.prompts if buffer.startswith(one, at)), None)
            if prompt:
                pieces.append(Prompt(to_text(prompt)))
                at += len(prompt)
                continue
            end = self._block_end(at)
            if end > len(buffer):
                self._need = end - at
                break
            if end > at:
                pieces.append(to_text(bytes(buffer[at:end])))
                at = end
                continue
            found = _ENDS.search(buffer, at)
            if not found:
                break
            pieces += self._lines(buffer[at : found.end()])
            at = found.end()
        del buffer[:at]
        if len(buffer) > LONGEST_LINE and not self._need:
            pieces += self._cut()
        return pieces

    def _next_lead(self, at: int) -> int:
        """Where the next line begins that may be a block's; where there is none, where the last line begins."""
        buffer = self._buffer
        last = max(buffer.rfind(b"\n"), buffer.rfind(b"\r")) + 1
        found = self._lead.search(buffer, at, last) if self._leads else None
        return max(found.start() if found else last, at)

    def _block_end(self, at: int) -> int:
        """Where the block that begins at `at` ends, which may lie beyond the buffer; 0 where there is none."""
        for lead, header, count in self._headers:
            if self._buffer.startswith(lead, at) and (found := header.match(self._buffer, at)):
                size = count(found)
                if 0 <= size <= LARGEST_BLOCK:
                    return found.end() + size
        return 0


LONGEST_FRAME = 8192
# How often the start of a frame is looked for inside one that was wrong.
_TRIES = 4


class FrameCutter:
    """`mark` is how each frame starts; `at` where its length is, of this `form`; `rest` what is added to that for the whole
    frame; `whole` whether the bytes of a frame are right. `gap` is the silence in seconds that ends an incomplete frame,
    `deadline` when that will be. `prompts` are not looked for."""

    def __init__(
        self, mark: bytes, at: int, form: NumberForm, rest: int, whole: Callable[[bytes], bool], gap: float = 0.06
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
