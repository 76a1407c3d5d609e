"""How a module wants to be spoken to, as a value: line ends, echo, the words for yes and no, how long an answer takes.

The rule: everything that differs between modules and is needed to hold one exchange stands here; nothing else does.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Literal

import msgspec

from wexicon.core.protocol.elements import in_digits
from wexicon.core.protocol.fields import NumberForm, field
from wexicon.core.protocol.keyed import Keyed
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.standards.checksums import CHECKS
from wexicon.core.text import meant, seconds, to_bytes

LINE_ENDS = {"none": "", "cr": "\r", "lf": "\n", "crlf": "\r\n"}
ANSWERS = ("lines", "silence", "sentences", "bytes", "frames", "json")
ECHOES = ("on", "off", "either")
QUOTES = ("backslash", "double", "hex", "json", "none")
CLOSINGS = ("always", "alone", "either", "prompt")
_SILENCE = re.compile(r"(?:silence|bytes|frames)\s+(\S+)")


class More(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`more` of `[speech]`: an answer that comes in pages. `hear` is what stands at the end of a page, with no line end, and
    `say` what brings the next one."""

    hear: str
    say: str = " "


class LayerTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag_field="layer"):
    """One of `layers`: what its kind puts around each frame or line."""

    def form_for(self, speech: Speech) -> str:
        """The form of its field."""
        return str(getattr(self, "form", ""))

    def faults(self, speech: Speech) -> Iterator[str]:
        """What is wrong with it."""
        form = self.form_for(speech)
        if form and not isinstance(field(form), NumberForm):
            yield f"{form!r} is not the form of a number: write u8, u16, u16le, digits(2) or hex(2)"
        for key in ("mark", "before", "after") if speech.in_digits else ():
            if not re.fullmatch(r" *([0-9A-Fa-f]{2} *)*", text := str(getattr(self, key, ""))):
                yield f"{key} is bytes in hexadecimal here, as in C6 3D, not {text!r}"


class MarkTable(LayerTable, frozen=True, tag="mark"):
    """`mark` is how each frame starts."""

    mark: str


class LengthTable(LayerTable, frozen=True, tag="length"):
    """The number of bytes that follow it, of this `form`, behind the first `at` bytes. `plus`: by how
    much it is more than that."""

    form: str = "u8"
    at: int = 0
    plus: int = 0


class ChecksumTable(LayerTable, frozen=True, tag="checksum"):
    """A checksum at the end. `check` is its name (xor, sum, negative-sum, fletcher-8, fletcher-16, crc-16/modbus; `wexicon calc
    check text=x` lists all), `form` that of its field, `start` the byte from which it is counted; `before` and `after` are what
    stands around it."""

    check: str
    form: str = ""
    start: int = 0
    before: str = ""
    after: str = ""

    def form_for(self, speech: Speech) -> str:
        bits = CHECKS[self.check][0] if self.check in CHECKS else 8
        return self.form or (f"u{bits}" if speech.in_digits else f"hex({bits // 4})")

    def faults(self, speech: Speech) -> Iterator[str]:
        if self.check not in CHECKS:
            yield f"{self.check!r} is not a check; {meant(self.check, CHECKS)}"
        yield from super().faults(speech)


class StationTable(LayerTable, frozen=True, tag="station"):
    """The number of the module that is spoken to, for modules that share a line. `usual` is that as
    delivered, `form` that of its field; `before` and `after` are what stands around it. A setting of kind `station` changes
    it."""

    form: str = "u8"
    usual: int = 1
    before: str = ""
    after: str = ""


class NumberTable(LayerTable, frozen=True, tag="number"):
    """A running number from `first` to `last`, which the answer repeats; events have `unasked`."""

    form: str = "u8"
    first: int = 1
    last: int = 0
    unasked: int = 0


@lru_cache(maxsize=4096)
def pattern_in(form: str, source: str) -> Pattern:
    """A pattern for a form of answers, compiled once however often it is asked for. Raises PatternFault."""
    if form == "json":
        made: Pattern = Keyed(source)
    else:
        made = Pattern(in_digits(source) if form in ("bytes", "frames") else source)
    made.form = form
    return made


Layers = tuple[MarkTable | LengthTable | ChecksumTable | StationTable | NumberTable, ...]


class Speech(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[speech]`: how lines and answers are framed. `end` is the line ending that Wexicon adds to each line, `echo` whether
    the module echoes, `ok` its success codes, `within` the longest time to an answer.

    `answer` is how answers end: `lines`; `silence 60ms`; `sentences`, lines with a checksum that is added and checked (NMEA
    0183); `bytes 20ms`, raw bytes ended by silence, which are said, heard and shown in hexadecimal; `frames`, the same for
    bytes whose length is in them; `json`, lines that are JSON objects, said and heard by their keys. `layers` are what is
    around each frame or line, from the outside in. `closing` says when the success code comes: `always` after every answer
    (V.250, 5.7.1), `alone` only where there is nothing else to say, `either` where that is unknown (then Wexicon listens a
    moment longer); `prompt` if `prompt` ends every answer, right or wrong. `rest` is the pause that the module needs after
    its answer before it can hear the next line; `window` how long after its first byte a whole line must have come;
    `error` its result codes for an error, `silence` where it refuses by saying nothing; `reason` lines that come before an
    error's code and tell why, as {code}; `quotes` how it writes a quote inside quotes; `separators` the characters that part
    commands or fields on a line, which no value outside of quotes may hold (`;` where nothing is said, as in V.250, 5.2.1;
    `,` and `*` in sentences); `busy` answers that mean: not now, say it again (they may tell the seconds as {wait:int});
    `prompt` what it sends before each line; `more` how it pages long answers; `colours` that it sends escape sequences of
    terminals, which are left out; `pace` the pause that it needs after each character.
    """

    end: str = "crlf"
    answer: str = "lines"
    echo: str = "either"
    ok: tuple[str, ...] = ("OK",)
    error: tuple[str, ...] | Literal["silence"] = ("ERROR",)
    reason: tuple[str, ...] = ()
    within: str = "1s"
    closing: str = "either"
    busy: tuple[str, ...] = ()
    rest: str = "0ms"
    window: str = ""
    prompt: str = ""
    quotes: str = "backslash"
    separators: str | None = None
    more: More | None = None
    colours: bool = False
    pace: str = "0ms"
    layers: Layers = ()

    def faults(self) -> list[tuple[str, str]]:
        """What is wrong with it, as (key, what)."""
        found: list[tuple[str, str]] = []
        for key, allowed in (("end", LINE_ENDS), ("echo", ECHOES), ("closing", CLOSINGS), ("quotes", QUOTES)):
            if (word := getattr(self, key)) not in allowed:
                found.append((key, f"{word!r} is not one of {', '.join(allowed)}"))
        if self.answer not in ANSWERS and not _SILENCE.fullmatch(self.answer):
            found.append(
                ("answer", f"{self.answer!r} is not one of lines, silence 60ms, sentences, bytes 20ms, frames, json")
            )
        found += [("layers", what) for what in self._layer_faults()]
        for key, text in (
            ("within", self.within),
            ("rest", self.rest),
            ("pace", self.pace),
            ("window", self.window or "1s"),
            ("answer", self._gap_text()),
        ):
            try:
                seconds(text)
            except ValueError as fault:
                found.append((key, str(fault)))
        if self.more and not (self.more.hear.strip() and self.more.say):
            found.append(("more", "hear and say must not be empty"))
        if self.closing == "prompt" and not self.prompt:
            found.append(("closing", "there is no prompt that could end an answer"))
        if self.window and self.pace != "0ms":
            found.append(("pace", "a line that must come within a window cannot be said slowly"))
        for key, sources in (("ok", self.ok), ("error", self.errors), ("busy", self.busy), ("reason", self.reason)):
            for source in sources:
                try:
                    self.pattern(source)
                except ValueError as fault:
                    found.append((key, str(fault)))
        return found

    def _layer_faults(self) -> Iterator[str]:
        lengths = sum(isinstance(one, LengthTable) for one in self.layers)
        if (self.form == "frames") != (lengths == 1):
            yield "a frame is cut by its one layer length, and nothing else has any"
        if self.form not in ("lines", "bytes", "frames") and self.layers:
            yield f"{self.form} have no layers"
        if sum(isinstance(one, StationTable) for one in self.layers) > 1:
            yield "there are two stations"
        for one in self.layers:
            yield from one.faults(self)

    def pattern(self, source: str) -> Pattern:
        """A pattern for what this module answers. Raises PatternFault."""
        return pattern_in(self.form, source)

    @property
    def quoting(self) -> str:
        """How a quote inside quotes is written and read: in JSON in its own way."""
        return "json" if self.form == "json" else self.quotes

    def shown(self, text: str) -> str:
        """What came, as it is shown: bytes in hexadecimal digits."""
        return to_bytes(text).hex().upper() if self.in_digits else text

    @property
    def in_digits(self) -> bool:
        """Whether lines and answers are bytes, said and shown in hexadecimal digits."""
        return self.form in ("bytes", "frames")

    @property
    def summed(self) -> bool:
        """Whether each frame or line has a checksum: noise is not taken for one."""
        return any(isinstance(one, ChecksumTable) for one in self.layers)

    @property
    def station(self) -> int | None:
        """The station of the module as delivered; None if it has none."""
        return next((one.usual for one in self.layers if isinstance(one, StationTable)), None)

    def _gap_text(self) -> str:
        found = _SILENCE.fullmatch(self.answer)
        return found[1] if found else "60ms"

    @property
    def errors(self) -> tuple[str, ...]:
        """The result codes for an error; none where the module refuses by saying nothing."""
        return () if isinstance(self.error, str) else self.error

    @property
    def parting(self) -> str:
        """The characters that part commands or fields."""
        if self.separators is not None:
            return self.separators
        if self.form == "json":
            return ",}]"
        return ",*" if self.form == "sentences" else ";"

    @property
    def line_end(self) -> str:
        """The characters of the line end."""
        return LINE_ENDS[self.end]

    @property
    def form(self) -> str:
        """How frames are cut: lines, silence, sentences, bytes."""
        return self.answer.partition(" ")[0]

    @property
    def gap(self) -> float:
        """The silence in seconds that ends an answer, where silence does."""
        return seconds(self._gap_text())
