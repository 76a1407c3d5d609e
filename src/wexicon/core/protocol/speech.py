"""How a module wants to be spoken to, as a value: line ends, echo, the words for yes and no, how long an answer takes.

The rule: everything that differs between modules and is needed to hold one exchange stands here; nothing else does.
"""

from __future__ import annotations

import re
from typing import Literal

import msgspec

from wexicon.core.durations import seconds
from wexicon.core.protocol.patterns import Pattern

LINE_ENDS = {"none": "", "cr": "\r", "lf": "\n", "crlf": "\r\n"}
ANSWERS = ("lines", "silence", "sentences", "bytes")
ECHOES = ("on", "off", "either")
QUOTES = ("backslash", "double", "hex", "none")
CLOSINGS = ("always", "alone", "either")
_SILENCE = re.compile(r"(?:silence|bytes)\s+(\S+)")


class More(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`more` of `[speech]`: an answer that comes in pages. `hear` is what stands at the end of a page, with no line end, and
    `say` what brings the next one."""

    hear: str
    say: str = " "


class Speech(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[speech]`: how lines and answers are framed. `end` is the line ending that Wexicon adds to each line, `echo` whether
    the module echoes, `ok` its success codes, `within` the longest time to an answer.

    `answer` is how answers end: `lines`; `silence 60ms`; `sentences`, lines with a checksum that is added and checked (NMEA
    0183); `bytes 20ms`, raw bytes ended by silence, which are said, heard and shown in hexadecimal. `closing` says when the
    success code comes: `always` after every answer (V.250, 5.7.1), `alone` only where there is nothing else to say,
    `either` where that is unknown (then Wexicon listens a moment longer). `rest` is the pause that the module needs after
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

    def faults(self) -> list[tuple[str, str]]:
        """What is wrong with it, as (key, what)."""
        found: list[tuple[str, str]] = []
        for key, allowed in (("end", LINE_ENDS), ("echo", ECHOES), ("closing", CLOSINGS), ("quotes", QUOTES)):
            if (word := getattr(self, key)) not in allowed:
                found.append((key, f"{word!r} is not one of {', '.join(allowed)}"))
        if self.answer not in ANSWERS and not _SILENCE.fullmatch(self.answer):
            found.append(("answer", f"{self.answer!r} is not one of lines, silence 60ms, sentences, bytes 20ms"))
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
        if self.window and self.pace != "0ms":
            found.append(("pace", "a line that must come within a window cannot be said slowly"))
        for key, sources in (("ok", self.ok), ("error", self.errors), ("busy", self.busy), ("reason", self.reason)):
            for source in sources:
                try:
                    Pattern(source)
                except ValueError as fault:
                    found.append((key, str(fault)))
        return found

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
        return ",*" if self.form == "sentences" else ";"

    @property
    def line_end(self) -> str:
        """The characters of the line end."""
        return LINE_ENDS[self.end]

    @property
    def form(self) -> str:
        """How frames are cut: lines, silence, sentences, bytes."""
        return self.answer.split()[0]

    @property
    def gap(self) -> float:
        """The silence in seconds that ends an answer, where silence does."""
        return seconds(self._gap_text())
