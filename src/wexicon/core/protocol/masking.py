"""Finds and masks secrets in every encoding that a module may use, and in everything that a session reports to its listeners.

The rule: what is made of a secret is a secret; a field that holds one is masked whole. A value of fewer than three characters
is masked where it is put in and where it is read, and not looked for elsewhere: it would be found in everything. A line that
may hold the first part of a secret waits until the next one shows whether it does. A listener that fails (a full disk, a
closed pipe) is reported nothing more; the session stops between two exchanges.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections import deque
from collections.abc import Iterable, Mapping
from itertools import accumulate

import msgspec

from wexicon.core.protocol.observations import Heard, Listener, Observation
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.standards.charsets import packed_anywhere, ucs2
from wexicon.core.text import HIDDEN, QUOTING, plain, to_bytes, visible, written

# The shortest value that is looked for as a field, and those that are looked for inside longer words too: one that a
# person gave, and one that a module told, which may be a factory default such as 0000.
SHORTEST = 3
INSIDE, INSIDE_WHERE_READ = 4, 6
# A longer value is looked for in pieces of this size; beyond this number of values and pieces, everything is masked.
PIECE = 64
MOST = 500
_FIELD = re.compile(r"[^\s,;\"'=()<>\[\]{}:|]+")
# What may part two hexadecimal digits from the next two.
_BETWEEN = r"h?[ \t:;.,|_/\-]{0,2}(?:0x|\\x|%)?"
# Where there may be such digits at all, and what is left out to have them together.
_HEX_RUN = re.compile(r"[0-9a-f](?:[0-9a-fhx \t:;.,|_/\-\\%]){2,}", re.IGNORECASE)
_GAP = re.compile(r"0x|\\x|[h \t:;.,|_/\-%]", re.IGNORECASE)
_GROUPED = re.compile(r"[0-9A-Fa-f]{2}(?:[ :.,\-]?[0-9A-Fa-f]{2}){2,}")


class Secrets:
    """All that is secret in one session. `words` are the module's own result codes, which are never masked; `read_by` the
    patterns whose captures of these names are secret, whenever such a line is heard."""

    def __init__(self) -> None:
        # Whether there is anything to look for.
        self.any = False
        self.words: frozenset[str] = frozenset()
        self._known: dict[str, bool] = {}
        self._read_by: list[tuple[Pattern, frozenset[str]]] = []
        self._leads: tuple[str, ...] = ()
        # One expression a value.
        self._inside: list[re.Pattern[str]] = []
        self._fields: set[str] = set()
        self._pieces: dict[int, set[str]] = {}
        # Every writing that is looked for inside words, and how many characters of it are a good part of it.
        self._long: dict[str, int] = {}
        # All of them as one text, and every beginning of one by its last character.
        self._joined = ""
        self._starts: dict[str, set[str]] = {}
        self._longest = 0
        self._full = False
        # Every writing in hexadecimal, and what finds it however it is parted.
        self._in_hex: dict[str, re.Pattern[str] | None] = {}
        # What was learned after the forms: its forms follow when they are needed.
        self._new: list[tuple[str, bool]] = []

    # -- learning -------------------------------------------------------------------------------------------------

    def spare(self, words: frozenset[str]) -> None:
        """These result codes are never masked either."""
        self.words |= words

    def learn(self, value: object, *, read: bool = False) -> None:
        """Takes a value that may not be shown from now on; `read` where the module told it."""
        value = plain(value)
        if isinstance(value, Mapping):
            value = list(value.values())
        if isinstance(value, (list, tuple)):
            for part in value:
                self.learn(part, read=read)
            return
        if isinstance(value, bool):
            return
        text = written(value)
        pieces = [text[at : at + PIECE] for at in range(0, len(text), PIECE)]
        pieces += [line for line in re.split(r"[\r\n]+", text) if line != text]
        if text.lstrip("+0") != text and text.lstrip("+0").isdigit():
            pieces.append(text.lstrip("+0"))
        new = [piece for piece in pieces if len(piece) >= SHORTEST and (piece not in self._known or not read)]
        if not new or self._full:
            return
        self.any = True
        for piece in new:
            self._known[piece] = read
        self._full = len(self._known) > MOST
        if not self._full:
            self._new += [(piece, read) for piece in new]

    def add_pattern(self, pattern: Pattern, names: Iterable[str]) -> None:
        """Lines that this pattern fits tell a secret, whenever they come."""
        if pattern.start:
            self._read_by.append((pattern, frozenset(names)))
            self._leads = tuple(pattern.start for pattern, _ in self._read_by)
            self.any = True

    def overhear(self, text: str) -> None:
        """Takes what a line tells, where it is one of those that tell a secret."""
        if not text.startswith(self._leads):
            return
        for pattern, names in self._read_by:
            captures = pattern.match(text)
            for name in names.intersection(captures or ()):
                self.learn((captures or {})[name], read=True)

    def _prepare(self) -> None:
        """Makes the forms of the values that were learned since the last time."""
        new, self._new = self._new, []
        for text, read in new:
            forms = {text, visible(text), *(quote(text) for quote in QUOTING.values())}
            self._fields |= {form.casefold() for form in forms}
            if len(text) >= (INSIDE_WHERE_READ if read else INSIDE):
                encoded = _encoded(text)
                inside = {re.escape(form) for form in forms}
                self._in_hex |= dict.fromkeys(data.hex() for data in encoded)
                self._inside.append(re.compile("|".join(sorted(inside, key=len, reverse=True)), re.IGNORECASE))
                for form in forms:
                    self._add_long(form.casefold(), max(4, (len(form) + 1) // 2))
                for data in encoded:
                    self._add_long(data.hex(), max(8, len(data)))
            size = min(4, max(2, (len(text) + 1) // 2))
            for form in (*forms, to_bytes(text).hex()):
                pieces = (form[at : at + size].casefold() for at in range(len(form) - size + 1))
                self._pieces.setdefault(size, set()).update(pieces)

    def _add_long(self, form: str, least: int) -> None:
        """A writing that is looked for inside words; where two coincide, the smaller part of either is masked."""
        if form in self._long:
            self._long[form] = min(least, self._long[form])
            return
        self._long[form] = least
        self._longest = max(self._longest, len(form))
        self._joined += f"\0{form}"
        for size in range(1, len(form)):
            self._starts.setdefault(form[size - 1], set()).add(form[:size])

    # -- masking --------------------------------------------------------------------------------------------------

    def mask(self, text: str, *, closely: bool = False) -> str:
        """The text with every field masked that holds a secret; `closely` those too that hold a piece of one, for lines that
        answer a secret."""
        if not self._known or not text:
            return text
        self._prepare()
        return self.mask_places(text, self._pieces_in(text) if closely else [])

    def mask_places(self, text: str, places: list[tuple[int, int]]) -> str:
        """The same, with the fields at these places masked too."""
        if not self._known and not places:
            return text
        if self._full:
            return HIDDEN
        self._prepare()
        fields = [one.span() for one in _FIELD.finditer(text)]
        spans = [(start, end) for start, end in fields if self._is_secret(text[start:end].casefold())]
        spans += [_widened(fields, *place) for place in (*places, *self.places(text))]
        made, done = "", 0
        for start, end in sorted(spans):
            if any(text.startswith(word) and end <= len(word) for word in self.words):
                continue
            if start > done or not made.endswith(HIDDEN):
                made += text[done:start] + HIDDEN
            done = max(done, end)
        return made + text[done:]

    def places(self, text: str) -> list[tuple[int, int]]:
        """Where a secret stands inside the text."""
        self._prepare()
        found = [one.span() for pattern in self._inside for one in pattern.finditer(text)]
        for run in _HEX_RUN.finditer(text) if self._in_hex else ():
            digits = _GAP.sub("", run.group()).casefold()
            for form in self._in_hex:
                if form in digits:
                    found += [one.span() for one in self._parted(form).finditer(text)]
        return found

    def _parted(self, form: str) -> re.Pattern[str]:
        """What finds a form in hexadecimal however it is parted: made when the form is there, as most never are."""
        pattern = self._in_hex[form]
        if pattern is None:
            pairs = (form[at : at + 2] for at in range(0, len(form), 2))
            pattern = self._in_hex[form] = re.compile(_BETWEEN.join(pairs), re.IGNORECASE)
        return pattern

    def _is_secret(self, field: str) -> bool:
        """Whether a whole field is one, or a good part of one."""
        if field in self._fields:
            return True
        return field in self._joined and any(
            least <= len(field) < len(form) and field in form for form, least in self._long.items()
        )

    def unfinished(self, text: str) -> int:
        """How many characters at the end of the text may be the beginning of a secret that goes on in the next line."""
        self._prepare()
        starts = self._starts.get(text[-1:].casefold())
        if starts is None:
            return 0
        tail = text[-self._longest :].casefold()
        return max((len(one) for one in starts if tail.endswith(one)), default=0)

    def _pieces_in(self, text: str) -> list[tuple[int, int]]:
        folded = text.casefold()
        if len(folded) != len(text):
            return [(0, len(text))]
        return [
            (at, at + size)
            for size, pieces in self._pieces.items()
            for at in range(len(folded) - size + 1)
            if folded[at : at + size] in pieces
        ]


def _widened(fields: list[tuple[int, int]], start: int, end: int) -> tuple[int, int]:
    """A place in a text, widened to the fields in which it begins and ends."""
    first, last = (bisect_right(fields, (place, 1 << 60)) - 1 for place in (start, end - 1))
    if first >= 0 and fields[first][1] > start:
        start = fields[first][0]
    return start, max(end, fields[last][1]) if last >= 0 else end


def _encoded(text: str) -> list[bytes]:
    """The text in bytes: UTF-8, both orders of UCS-2, septets packed at any place (3GPP TS 23.038, 6.1.2), and an address in
    reverse too."""
    writings = [to_bytes(text)]
    for make in (ucs2, lambda text: text.encode("utf-16-le", "surrogatepass"), packed_anywhere):
        try:
            made = make(text)
        except ValueError:
            continue
        writings += made if isinstance(made, list) else [made]
    if _GROUPED.fullmatch(text):
        number = bytes.fromhex(re.sub(r"[^0-9A-Fa-f]", "", text))
        writings += [number, number[::-1]]
    return [data for data in writings if len(data) >= SHORTEST]


# How many observations are kept to explain a failure.
MOST_RECENT = 256


class Redactor(Listener):
    """In front of a listener. `lost` says why it hears no more; `recent` are the last observations, without secrets."""

    def __init__(self, listener: Listener, secrets: Secrets) -> None:
        self.lost = ""
        self.recent: deque[Observation] = deque(maxlen=MOST_RECENT)
        self._listener = listener
        self._secrets = secrets
        self._waiting: list[Heard] = []

    def note(self, seen: Observation) -> None:
        if not self._secrets.any:
            # The usual case, without a step more than it needs.
            self.recent.append(seen)
            if not self.lost:
                try:
                    self._listener.note(seen)
                except OSError as fault:
                    self._lose(fault)
        elif isinstance(seen, Heard):
            self._secrets.overhear(seen.text)
            if self._waiting or self._secrets.unfinished(seen.text):
                self._waiting.append(seen)
                self._release(final=False)
            else:
                text = self._secrets.mask(seen.text)
                self._pass(seen if text == seen.text else Heard(seen.at, text, seen.role, seen.name))
        else:
            self.flush()
            changed = {name: self._secrets.mask(text) for name in ("text", "note") if (text := getattr(seen, name, ""))}
            self._pass(msgspec.structs.replace(seen, **changed) if changed else seen)

    def idle(self) -> None:
        if not self.lost:
            try:
                self._listener.idle()
            except OSError as fault:
                self._lose(fault)

    def flush(self) -> None:
        """Passes on what waits."""
        if self._waiting:
            self._release(final=True)

    def _release(self, *, final: bool) -> None:
        """Passes on all lines that cannot be part of a secret which goes on."""
        waiting = self._waiting
        texts = [seen.text for seen in waiting]
        joined = "".join(texts)
        ends = list(accumulate(map(len, texts)))
        open_from = len(joined) + 1 if final else len(joined) - (self._secrets.unfinished(joined) or -1)
        count = bisect_right(ends, open_from - 1) if open_from <= len(joined) else len(texts)
        across = self._secrets.places(joined) if len(texts) > 1 else []
        for index, seen in enumerate(waiting[:count]):
            start, end = ends[index] - len(texts[index]), ends[index]
            parts = [(max(a, start) - start, min(b, end) - start) for a, b in across if a < end and b > start]
            text = self._secrets.mask_places(seen.text, parts)
            self._pass(seen if text == seen.text else Heard(seen.at, text, seen.role, seen.name))
        del waiting[:count]

    def _pass(self, seen: Observation) -> None:
        self.recent.append(seen)
        if not self.lost:
            try:
                self._listener.note(seen)
            except OSError as fault:
                self._lose(fault)

    def _lose(self, fault: OSError) -> None:
        if isinstance(fault, BrokenPipeError):
            self.lost = "the reader of the output is gone"
        else:
            self.lost = f"the trace cannot be written any more: {fault.strerror or fault}"
