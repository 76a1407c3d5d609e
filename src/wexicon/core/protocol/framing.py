"""Bytes from a module to frames: lines, prompts, raw blocks, sentences, or whatever stood between two silences.

The rule: the frames are the same however the bytes were cut on their way here. A line ends at CR, at LF, or at both;
empty lines are nothing. A prompt has no line end and counts as soon as it stands at the start of a line. A block is
a header followed by as many raw bytes as the header says. No frame grows without bound.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence

import msgspec

from wexicon.core.protocol.patterns import Pattern, block_header
from wexicon.core.text import to_text

LONGEST_LINE = 65_536
LARGEST_BLOCK = 1_048_576


class Line(msgspec.Struct, frozen=True):
    """One line without its end; in silence mode, all that came between two silences; in bytes mode
    the same in hexadecimal digits."""

    text: str


class Prompt(msgspec.Struct, frozen=True):
    """A prompt: the module waits for more, on the same line."""

    text: str


class Block(msgspec.Struct, frozen=True):
    """A header and the raw bytes that it announced, as one text."""

    text: str


class Broken(msgspec.Struct, frozen=True):
    """A sentence whose checksum is wrong or missing, or a line without end that was cut."""

    text: str


Frame = Line | Prompt | Block | Broken

_ENDS = re.compile(rb"[\r\n]")
_SENTENCE = re.compile(rb"[$!]([\x20-\x29\x2b-\x7e]*)\*([0-9A-Fa-f]{2})")


def checksum(body: bytes) -> int:
    """The checksum of a sentence: the exclusive or of the bytes between `$` or `!` and `*` (NMEA 0183, 5.3.3.2)."""
    total = 0
    for byte in body:
        total ^= byte
    return total


def with_checksum(text: str) -> str:
    """A sentence with the checksum that it lacks (NMEA 0183, 5.3.1); anything else as it is."""
    if text[:1] not in ("$", "!") or "*" in text:
        return text
    return f"{text}*{checksum(text[1:].encode('utf-8', 'surrogateescape')):02X}"


def sentence(line: bytes) -> Frame:
    """A line as a sentence: Broken where it starts like one and its checksum does not fit."""
    if line[:1] not in (b"$", b"!"):
        return Line(to_text(line))
    found = _SENTENCE.fullmatch(line)
    if not found or checksum(found[1]) != int(found[2], 16):
        return Broken(to_text(line))
    return Line(to_text(line))


class Framer:
    """Cuts what one module sends into frames.

    `answer` is the lexicon's word (lines, silence, sentences, bytes), `gap` the silence in seconds that ends a frame in
    silence mode. `prompts` may be changed at any time: a prompt is only looked for while somebody waits for it.
    """

    def __init__(self, answer: str = "lines", gap: float = 0.0, blocks: Iterable[Pattern] = ()) -> None:
        self.answer = answer
        self.gap = gap
        self.prompts: Sequence[bytes] = ()
        self.deadline: float | None = None
        self._buffer = b""
        self._overlong = False
        self._last = 0.0
        self.look_for(blocks)

    def look_for(self, patterns: Iterable[Pattern]) -> None:
        """From now on raw bytes are cut where one of these patterns ends in them."""
        self._blocks: list[tuple[bytes, re.Pattern[bytes], Callable[[re.Match[bytes]], int]]] = []
        for pattern in patterns:
            if rule := block_header(pattern):
                self._blocks.append(rule)

    @property
    def pending(self) -> str:
        """What has come of a frame that is not yet whole."""
        return to_text(self._buffer)

    def feed(self, data: bytes, now: float) -> list[Frame]:
        """Takes in bytes that came at the time `now`; gives the frames that are whole."""
        if self.answer in ("silence", "bytes"):
            frames = self.elapse(now)
            self._buffer += data
            self._last = now
            self.deadline = now + self.gap
            if len(self._buffer) > LONGEST_LINE:
                frames += self._cut()
            return frames
        buffer = self._buffer + data
        if self.prompts or (self._blocks and any(lead in buffer for lead, _, _ in self._blocks)):
            return self._careful(buffer)
        *lines, rest = buffer.replace(b"\r", b"\n").split(b"\n")
        self._buffer = rest
        return self._frames(lines) + (self._cut() if len(rest) > LONGEST_LINE else [])

    def elapse(self, now: float) -> list[Frame]:
        """Time has passed: in silence mode the end of a frame."""
        if self.deadline is None or now < self.deadline:
            return []
        return self.release()

    def release(self) -> list[Frame]:
        """Whatever is there, whole or not, as a frame: the other side has said all that it will say."""
        text, self._buffer, self.deadline = self._buffer, b"", None
        if self.answer == "bytes":
            return [Line(text.hex().upper())] if text else []
        text = text.strip(b"\r\n")
        return [Line(to_text(text))] if text else []

    def look_again(self) -> list[Frame]:
        """The frames that became whole because `prompts` was changed."""
        return self.feed(b"", self._last) if self._buffer and self.answer in ("lines", "sentences") else []

    def _frames(self, lines: list[bytes]) -> list[Frame]:
        if self._overlong and lines:
            self._overlong = False
            lines = lines[1:]
        if self.answer == "sentences":
            return [sentence(line) for line in lines if line]
        return [Line(line.decode("utf-8", "surrogateescape")) for line in lines if line]

    def _cut(self) -> list[Frame]:
        text, self._buffer, self.deadline = self._buffer[:LONGEST_LINE], b"", None
        first, self._overlong = not self._overlong, self.answer not in ("silence", "bytes")
        return [Broken(to_text(text))] if first else []

    def _careful(self, buffer: bytes) -> list[Frame]:
        """One frame at a time where there may be a prompt or a block; the lines between two blocks all at once."""
        frames: list[Frame] = []
        at = 0
        while True:
            if not self.prompts:
                start = self._next_lead(buffer, at)
                if start > at:
                    frames += self._frames(buffer[at:start].replace(b"\r", b"\n").split(b"\n"))
                    at = start
            while at < len(buffer) and buffer[at] in b"\r\n":
                at += 1
                self._overlong = False
            prompt = next((p for p in self.prompts if buffer.startswith(p, at)), None)
            if prompt:
                frames.append(Prompt(to_text(prompt)))
                at += len(prompt)
                continue
            end = self._block_end(buffer, at)
            if end > len(buffer):
                break
            if end > 0:
                frames.append(Block(to_text(buffer[at:end])))
                at = end
                continue
            found = _ENDS.search(buffer, at)
            if not found:
                break
            frames += self._frames([buffer[at : found.start()]])
            at = found.end()
        self._buffer = buffer[at:]
        if len(self._buffer) > LONGEST_LINE and self._block_end(self._buffer, 0) <= 0:
            frames += self._cut()
        return frames

    def _next_lead(self, buffer: bytes, at: int) -> int:
        """Where the next line begins that may be a block's; where there is none, where the last line begins."""
        found = max(buffer.rfind(b"\n"), buffer.rfind(b"\r")) + 1
        for lead, _, _ in self._blocks:
            place = buffer.find(lead, at)
            while place > at and buffer[place - 1] not in b"\r\n":
                place = buffer.find(lead, place + 1)
            if 0 <= place < found:
                found = place
        return max(found, at)

    def _block_end(self, buffer: bytes, at: int) -> int:
        """Where the block that begins at `at` ends, which may lie beyond the buffer; 0 where there is none."""
        for lead, header, count in self._blocks:
            if buffer.startswith(lead, at) and (found := header.match(buffer, at)):
                size = count(found)
                if 0 <= size <= LARGEST_BLOCK:
                    return found.end() + size
        return 0
