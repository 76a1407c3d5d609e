"""How one module is spoken to, compiled once: patterns, result codes, the table of events, the line end; and what answers an
exchange.

The rule: a dialect never changes, so sessions in any number of threads share it; to speak otherwise is to make another. A
reply never changes once its exchange has ended.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum
from functools import lru_cache

import msgspec
from msgspec import structs

from wexicon.core.protocol.elements import Literal, Quoted, is_free
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.layers import Envelope, Layer, LayerFault, cutter, stacked
from wexicon.core.protocol.patterns import NOTHING, Header, Pattern, PatternFault, block_header
from wexicon.core.protocol.speech import Speech, pattern_in
from wexicon.core.text import UNQUOTING, seconds, to_bytes


class ReplyStatus(StrEnum):
    """How an exchange ended: `ok`; `error`; `other`, an answer that was named; `silence`; `closed`, the success code came
    before all that was wanted; `busy`, to be said again later."""

    OK = "ok"
    ERROR = "error"
    OTHER = "other"
    SILENCE = "silence"
    CLOSED = "closed"
    BUSY = "busy"


class Closing(StrEnum):
    """When the success code comes: `always` after every answer; `alone`, only if there is nothing else to say; `either`, if
    that is unknown; `prompt`, instead of it the module's prompt ends each answer; `lenient`, if a dialogue does not ask for
    it: it may be missing once all that is wanted was heard."""

    ALWAYS = "always"
    ALONE = "alone"
    EITHER = "either"
    PROMPT = "prompt"
    LENIENT = "lenient"


class Want(msgspec.Struct, frozen=True):
    """One thing that must be heard: a pattern; a prompt (no line ending); or any number of lines gathered as rows. `unset` is
    what comes instead if there is no value."""

    pattern: Pattern
    prompt: bool = False
    gather: bool = False
    unset: Pattern | None = None


class Expectation(msgspec.Struct, frozen=True):
    """What answers an exchange. With no wants the success code is required; `silent` if nothing answers. `closing` replaces
    that of the speech. `bare`: the success code alone means that there is no value."""

    wants: tuple[Want, ...] = ()
    others: tuple[Pattern, ...] = ()
    silent: bool = False
    closing: Closing | None = None
    bare: bool = False


OK = Expectation()


class Reply(msgspec.Struct):
    """The reply of an exchange. `code` is an error's number or the seconds that a busy module wants; `which` the number of
    the other answer; `expected` what it still waited for when it ended; `waited` is in seconds; `unset` if the module
    answered that there is no value; `cut` the start of a line whose end did not come in time; `strange` the last line inside
    the answer that no pattern takes."""

    status: ReplyStatus
    said: str
    captures: dict[str, object]
    rows: list[dict[str, object]]
    heard: list[str]
    code: str = ""
    which: int = -1
    expected: str = ""
    waited: float = 0.0
    unset: bool = False
    cut: str = ""
    strange: str = ""

    @property
    def ok(self) -> bool:
        return self.status is _OK


_OK = ReplyStatus.OK


Named = tuple[str, Pattern]


@lru_cache(maxsize=4096)
def compiled(source: str) -> Pattern:
    """The pattern of a source, compiled once however often it is asked for."""
    return Pattern(source)


class Final(msgspec.Struct, frozen=True):
    """A final result code: `status` is ok, error or busy, `code` its number or the seconds to wait."""

    status: ReplyStatus
    code: str = ""


class Dialect:
    """`within`, `rest`, `window`, `pace` and `gap` are the speech's durations in seconds; `headers` the raw blocks that are
    cut as such; `prompts` what may come with no line end at any time; `starts` by how many characters, and which, anything
    that is known begins."""

    def __init__(
        self,
        speech: Speech,
        events: Mapping[str, Pattern] | None = None,
        *others: Pattern,
        locked: Sequence[str] = (),
    ) -> None:
        self.speech = speech
        self.events = dict(events or {})
        self.form = speech.form
        self._layered = bool(stacked(speech))
        self.line_end = "" if speech.in_digits else speech.line_end
        self.gap = speech.gap
        # Whether patterns are another thing than text.
        self._converts = speech.form in ("bytes", "frames", "json")
        self.within = seconds(speech.within)
        self.rest = seconds(speech.rest)
        self.window = seconds(speech.window) if speech.window else 0.0
        self.pace = seconds(speech.pace)
        # What comes at any time, with no line end, while the module asks for a login.
        self.locked = tuple(locked)
        prompts = (speech.prompt, speech.more.hear if speech.more else "", *locked)
        self.prompts = tuple(to_bytes(one) for one in prompts if one)
        self.others = others
        self.headers = _headers([*self.events.values(), *others])
        self._results = [
            (status, pattern)
            for status, sources in (
                (ReplyStatus.BUSY, speech.busy),
                (ReplyStatus.ERROR, speech.errors),
                (ReplyStatus.OK, speech.ok),
            )
            for pattern in map(speech.pattern, sources)
        ]
        # What says more of itself goes first: more that is spelled out, then fewer captures.
        self._results.sort(key=lambda one: -exactness(one[1]))
        self._ok = {speech.pattern(source).source for source in speech.ok}
        self.reasons = tuple(map(speech.pattern, speech.reason))
        # A word that is spelled out goes before every pattern: it cannot be meant otherwise.
        self._words = {
            pattern.source: Final(status) for status, pattern in reversed(self._results) if _is_literal(pattern)
        } | {one.source: Final(ReplyStatus.OK) for one in map(speech.pattern, speech.ok) if _is_literal(one)}
        # How result codes begin, or the whole of one that is spelled out.
        self.result_words = frozenset(pattern.start for _, pattern in self._results if pattern.start)
        self._results = [one for one in self._results if not _is_literal(one[1])]
        self._result_starts = _starts(pattern for _, pattern in self._results)
        self._anyhow: tuple[Named, ...] = tuple(one for one in self.events.items() if not one[1].start)
        self._by_start = _by_prefix(tuple(self.events.items()), self._anyhow)
        # What every event and result code begins with, by its first character; None where one may begin with anything.
        named = [*self.events.items(), *self._results, *((word, compiled(word)) for word in self._words)]
        self.starts = None if any(not one.start for _, one in named) else _by_prefix(tuple(named), ())

    def with_end(self, end: str) -> Dialect:
        """The same with another line end (none, cr, lf, crlf)."""
        speech = structs.replace(self.speech, end=end)
        return Dialect(speech, self.events, *self.others, locked=self.locked)

    def and_blocks_of(self, patterns: Iterable[Pattern]) -> Dialect:
        """The same, where raw blocks that these patterns end in are cut as such too."""
        more = tuple(pattern for pattern in patterns if block_header(pattern))
        return Dialect(self.speech, self.events, *more, locked=self.locked) if more or self.others else self

    def encode(self, text: str, *, exact: bool = False, layers: Sequence[Layer] | None = None) -> bytes:
        """The bytes of a line, its end and what is around it added unless `exact`; `layers` are those of the session. Raises
        InsertionFault where it cannot be said."""
        if layers is None and self._layered:
            layers = stacked(self.speech)
        if layers:
            try:
                for layer in reversed(layers):
                    if not (exact and isinstance(layer, Envelope)):
                        text = layer.encode(text)
            except LayerFault as fault:
                raise InsertionFault(str(fault)) from None
        return to_bytes(text if exact else text + self.line_end)

    def read(self, data: bytes) -> list[str]:
        """The lines or frames in bytes that came to no session; those that are corrupt are left out."""
        layers = stacked(self.speech)
        cut = cutter(self.speech, layers, self.headers)
        pieces = [*cut.feed(data, 0.0), *cut.release()]
        for layer in layers:
            pieces = layer.feed(pieces)
        return [piece for piece in pieces if isinstance(piece, str)]

    def plain(self, captures: dict[str, object]) -> dict[str, object]:
        """Captures with what stood in quotes as it was before it was quoted."""
        for name, value in captures.items():
            if isinstance(value, Quoted):
                captures[name] = UNQUOTING[self.speech.quoting](value)
        return captures

    def final(self, text: str) -> Final | None:
        """What a line says if it is a final result code, else None."""
        found = self._words.get(text)
        if found is not None:
            return found
        starts = self._result_starts
        if starts is not None and text[:1] not in starts:
            return None
        for status, pattern in self._results:
            captures = pattern.match(text)
            if captures is not None:
                return Final(status, str(captures.get("wait" if status is ReplyStatus.BUSY else "code", "")))
        return None

    def own(self, pattern: Pattern) -> Pattern:
        """A pattern of a dialogue, which knows no lexicon, as one for what this module answers."""
        if not self._converts or pattern.form == self.form or pattern.catches_all:
            return pattern
        try:
            return pattern_in(self.form, pattern.source)
        except PatternFault:
            # It has no keys: then it is for the whole line.
            return pattern

    def expecting(self, expect: Expectation) -> Expectation:
        """The same for all that an exchange expects."""
        if not self._converts or not (expect.wants or expect.others):
            return expect
        wants = tuple(
            one if one.prompt else structs.replace(one, pattern=self.own(one.pattern)) for one in expect.wants
        )
        return structs.replace(expect, wants=wants, others=tuple(map(self.own, expect.others)))

    def is_ok_word(self, source: str) -> bool:
        """Whether a pattern is the success code itself."""
        return source in self._ok

    def event(self, text: str, known: Mapping[str, object] = NOTHING) -> tuple[str, dict[str, object]] | None:
        """The name and values of a known event, or None."""
        table = self._by_start.get(text[:1])
        for name, pattern in self._anyhow if table is None else table[1].get(text[: table[0]], self._anyhow):
            values = pattern.match(text, known)
            if values is not None:
                return name, self.plain(values) if pattern.quotes else values
        return None


def exactness(pattern: Pattern) -> int:
    """How many characters of a pattern are spelled out, less one for each capture of any text."""
    spelled = sum(len(one.text) for one in pattern.elements if isinstance(one, Literal))
    return 100 * spelled - sum(is_free(one) for one in pattern.elements)


def _is_literal(pattern: Pattern) -> bool:
    return pattern.source == pattern.start


def _starts(patterns: Iterable[Pattern]) -> frozenset[str] | None:
    """The characters that these patterns begin with; None where one may begin with any."""
    found = frozenset(pattern.start[:1] for pattern in patterns)
    return None if "" in found else found


def _headers(patterns: Iterable[Pattern]) -> tuple[Header, ...]:
    return tuple(header for pattern in patterns if (header := block_header(pattern)))


_Index = dict[str, tuple[Named, ...]]


def _by_prefix(events: tuple[Named, ...], anyhow: tuple[Named, ...]) -> dict[str, tuple[int, _Index]]:
    """Events by their first character, and then by as many characters as all that share it have in common length."""
    table: dict[str, tuple[int, _Index]] = {}
    for first in {pattern.start[0] for _, pattern in events if pattern.start}:
        alike = [one for one in events if one[1].start[:1] == first]
        size = min(len(pattern.start) for _, pattern in alike)
        keys = {pattern.start[:size] for _, pattern in alike}
        table[first] = (
            size,
            {key: tuple(one for one in events if not one[1].start or one[1].start[:size] == key) for key in keys},
        )
    return table
