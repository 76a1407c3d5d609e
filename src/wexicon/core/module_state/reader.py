"""The reader of what is said: the inverse of the dialect. Bytes or lines of one side become questions, writes with values,
actions with arguments, payload, escape, login; what the lexicon does not say stays unknown.

The rule: nothing is guessed. A command line is cut as ITU-T V.250 does (5.2.1: several commands, `;` behind extended ones;
5.2.4: `A/` repeats the line), a payload is what follows a prompt. Each part says whether it is secret and where it stands;
what cannot be read while a secret is awaited is secret whole.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property, lru_cache

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.forms import Does, Form, Payload, forms_of
from wexicon.core.protocol.insertion import Filled
from wexicon.core.text import HIDDEN, to_bytes, to_text
from wexicon.core.values import Value

# What ends a payload that has no length and no end of its own; and what cancels one (3GPP TS 27.005, 3.5.1).
CANCEL = b"\x1b"
_LINE_ENDS = b"\r\n"
# Commands of which the name says that a secret follows: V.250 and 3GPP TS 27.007 (+CPIN, +CPWD, +CLCK), and what makers call
# it.
_USUAL = re.compile(r"(?i)[\w+#$%&^*@ ]*(?:pin|pass|pwd|psk|key|secret|auth|clck|code|join|access)\w*\s*[=:, ]\s*")
# What a value may stand between.
_AROUND = re.compile(r"[\s\"',;=]+|\\[rnt0e]|\\x[0-9A-Fa-f]{2}|[\x00-\x1f]+")
# The shortest part of a line that is taken for a secret by itself, and the shortest whole end of one.
_SHORTEST, _SHORTEST_WHOLE = 4, 3
# How many lines are kept as they were read.
_MOST_READ = 256
# V.250, 5.3.1 and 5.3.2: a basic command is a letter, or & and a letter, with a number; S and a number sets a parameter; D
# dials.
_BASIC = re.compile(r"(?i)\s*(?:S\d+(?:\?|=\d*)|&?[A-CE-RT-Z]\d*|D.*)\s*")


class Part(msgspec.Struct, frozen=True):
    """One part of what was said: the text, what it does, and to what (the setting, the group or the action; empty: none).
    `words` fill its form, in the words of the one who said it; `values` are the plain values of settings that it writes.
    `start` is where it stands in the whole line, `secrets` where its secrets stand there. `as_written`: letter by letter as the
    lexicon writes it. `form` is what answers it; `repeated` if it is said again by `A/`."""

    text: str
    does: Does
    name: str = ""
    words: dict[str, str] = {}
    values: dict[str, Value] = {}
    start: int = 0
    secrets: tuple[tuple[int, int], ...] = ()
    as_written: bool = True
    form: Form | None = None
    repeated: bool = False


class _ByIdentity:
    """A lexicon as a key of the cache: two of the same file may differ by secrets."""

    def __init__(self, lexicon: Lexicon) -> None:
        self.lexicon = lexicon

    def __hash__(self) -> int:
        return id(self.lexicon)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _ByIdentity) and other.lexicon is self.lexicon


@lru_cache(maxsize=64)
def _shared_forms(own: _ByIdentity) -> list[Form]:
    return forms_of(own.lexicon)


class Reader:
    """Reads what one side says to a module of a lexicon; without one only V.250 and the usual words for a secret are known.
    `payload` is what must still follow, if anything; `last` the parts of what was said last."""

    def __init__(self, lexicon: Lexicon | None) -> None:
        self.lexicon = lexicon
        # Lines that were read before, without what was awaited.
        self._read: dict[tuple[str, bool], tuple[Part, ...]] = {}
        self.payload: Payload | None = None
        # What the module asks for by a prompt of its login, and which it asked for last.
        self._logins = dict(_logins(lexicon, self.forms)) if lexicon and lexicon.attention.locked else {}
        self._login: Form | None = None
        self.last: tuple[Part, ...] = ()

    @cached_property
    def forms(self) -> list[Form]:
        """Every line that the lexicon says."""
        return _shared_forms(_ByIdentity(self.lexicon)) if self.lexicon else []

    # -- a line ---------------------------------------------------------------------------------------------------

    def said(self, text: str, *, exact: bool = False, guess: bool = True) -> Filled:
        """The line with what is secret in it; to `guess` is to take for secret what follows the usual words for one."""
        parts = self.exact(text, guess=guess) if exact else self.line(text, guess=guess)
        if not any(part.secrets for part in parts):
            return Filled(text)
        return Filled(text, self.masked(text, parts), tuple(dict.fromkeys(said_secrets(text, parts))))

    def line(self, text: str, *, guess: bool = True) -> tuple[Part, ...]:
        """The parts of a line that was said, without its line end."""
        if self.payload is not None and (self.payload.prompted or self.payload.secret):
            end = self.lexicon.speech.line_end if self.lexicon else ""
            self.last = (self._payload_line(text, to_bytes(text + end)),)
            return self.last
        self.payload = None
        if self._login is not None:
            self.last = (self._login_line(text),)
            return self.last
        if "/" in text and self.last and re.fullmatch(r"(?i)\s*A/\s*", text):
            return tuple(msgspec.structs.replace(one, repeated=True, secrets=()) for one in self.last)
        parts = self._read.get((text, guess))
        if parts is None:
            clean, places = _cleaned(text)
            parts = tuple(self._moved(one, places) for one in self._parts(clean, guess))
            if len(self._read) >= _MOST_READ:
                self._read.clear()
            self._read[text, guess] = parts
        self.last = parts
        last = parts[-1] if parts else None
        if last and last.form and last.form.payload:
            self._await(last)
        return parts

    def exact(self, text: str, *, guess: bool = True) -> tuple[Part, ...]:
        """The parts of bytes that were said as they are, with no line end added."""
        lexicon = self.lexicon
        if self.payload is not None and (self.payload.prompted or self.payload.secret):
            self.last = (self._payload_line(text, to_bytes(text)),)
            return self.last
        if (lexicon and text and text == lexicon.attention.escape) or not text.strip():
            self.last = (Part(text, Does.ESCAPES if text.strip() else Does.ENDS),)
            return self.last
        return self.line(text.rstrip("\r\n"), guess=guess)

    def read(self, text: str) -> tuple[Part, ...]:
        """The parts of a line, without a trace of it in what is expected next."""
        before = self.payload, self.last, self._login
        # What is awaited counts what it has.
        self.payload = msgspec.structs.replace(self.payload) if self.payload else None
        found = self.line(text)
        self.payload, self.last, self._login = before
        return found

    def prompted(self) -> None:
        """The module sent the prompt for a payload."""
        if self.payload is not None:
            self.payload.prompted = True

    def answered(self) -> None:
        """The module answered: nothing of a payload is awaited any more."""
        self.payload = None

    def heard(self, text: str) -> None:
        """The module sent this, or the beginning of a line: it may be the prompt of its login."""
        if self._logins and text.strip():
            self._login = next((form for prompt, form in self._logins.items() if text.rstrip().endswith(prompt)), None)

    def secret_from(self, text: str) -> int | None:
        """The column from which on a line that may not be finished yet is a secret; None if nothing of it is."""
        found = [at for one in self.read(text) for at, _ in one.secrets]
        return min(found) if found else None

    def masked(self, text: str, parts: Sequence[Part]) -> str:
        """The line with its secrets masked."""
        made, done = "", 0
        for start, end in sorted(place for part in parts for place in part.secrets):
            if end > done:
                made += text[done : max(start, done)] + HIDDEN
                done = end
        return made + text[done:]

    # -- bytes ----------------------------------------------------------------------------------------------------

    def takes(self, data: bytes) -> int:
        """How many of these bytes belong to a payload that is awaited now; 0 if none is."""
        awaited = self.payload
        if awaited is None or not (awaited.prompted or awaited.secret):
            return 0
        if data[:1] == CANCEL:
            return 1
        if awaited.left is not None:
            return min(awaited.left, len(data))
        ends = awaited.ends or _LINE_ENDS
        at = min((found for end in ends if (found := data.find(bytes([end]))) >= 0), default=-1)
        return at + 1 if at >= 0 else len(data)

    def piece(self, data: bytes) -> Part | None:
        """Takes bytes of a payload, as many as `takes` says; the whole payload once it is complete."""
        awaited = self.payload
        assert awaited is not None
        awaited.said += data
        if awaited.left is not None:
            awaited.left -= len(data)
        over = data[:1] == CANCEL or awaited.left == 0
        if awaited.left is None:
            over = over or data[-1:] in [bytes([end]) for end in awaited.ends or _LINE_ENDS]
        if not over:
            return None
        self.payload = None
        return self._payload_part(to_text(awaited.said), awaited)

    def _await(self, part: Part) -> None:
        """After this line the module wants a payload."""
        form = part.form
        assert form is not None
        assert form.payload is not None
        found = form.found(part.text)
        control = "".join(char for char in form.payload.tail if ord(char) < 0x20) if form.payload.names else ""
        secret = bool(form.secret.intersection(form.payload.names))
        self.payload = Payload(form, form.length(found) if found else None, to_bytes(control), secret)

    def _login_line(self, text: str) -> Part:
        """A line that answers the prompt of a login."""
        form, self._login = self._login, None
        assert form is not None
        names = set(form.template.names)
        secrets = ((0, len(text)),) if form.secret & names else ()
        return Part(text, Does.LOGS_IN, form.name, {form.template.names[0]: text}, secrets=secrets, form=form)

    def _payload_line(self, text: str, data: bytes) -> Part:
        """A line, or exact bytes, that are payload; `data` with the line end, which the module counts too."""
        awaited = self.payload
        assert awaited is not None
        awaited.said += data
        if awaited.left is not None:
            awaited.left = max(0, awaited.left - len(data))
        over = to_bytes(text)[-1:] in awaited.ends if awaited.ends and text else awaited.left is None
        if awaited.left == 0 or over or text.endswith("\x1b"):
            self.payload = None
        return self._payload_part(text, awaited)

    def _payload_part(self, text: str, awaited: Payload) -> Part:
        secrets = ((0, len(text)),) if awaited.secret and to_bytes(text) != CANCEL else ()
        return Part(text, Does.PAYLOAD, awaited.form.name, secrets=secrets, form=awaited.form)

    # -- what a line means ----------------------------------------------------------------------------------------

    def _parts(self, text: str, guess: bool) -> Iterator[Part]:
        """The commands of a line."""
        if not text.strip():
            yield Part(text, Does.ENDS)
            return
        v250 = re.match(r"(?i)\s*A\s*T", text)
        if not v250:
            yield self._one(text, guess)
            return
        whole = self._known(text)
        if whole and not any(";" in word for word in whole.words.values()):
            # The `;` behind a number that is dialled parts no commands (V.250, 6.3.1).
            yield whole
            return
        at = v250.end()
        if self.lexicon is not None and ";" not in self.lexicon.speech.parting:
            # This family has one command a line: another reading may only find what is secret.
            cut = (
                part
                for a, b in _segments(text, at)
                for part in self._commands(text, a, b, lead=text[:at], first=a == at, guess=guess)
            )
            found = self._one(text, guess)
            secrets = {*found.secrets, *(one for part in cut for one in part.secrets)}
            yield msgspec.structs.replace(found, secrets=tuple(sorted(secrets)))
            return
        for start, end in _segments(text, at):
            # Each command is read as if it stood alone behind its AT.
            yield from self._commands(text, start, end, lead=text[:at], first=start == at, guess=guess)

    def _commands(self, text: str, start: int, end: int, *, lead: str, first: bool, guess: bool) -> Iterator[Part]:
        """One extended command, with the basic ones in front of it (V.250, 5.3.1: they need no separator)."""
        whole = lead + text[start:end]
        shift = 0 if first else start - len(lead)
        found = self._known(whole)
        if found is None:
            basic = _BASIC.match(text, start, end)
            if basic and basic.end() > start and (basic.end() < end or first is False):
                yield self._placed(self._one(lead + text[start : basic.end()], guess), shift)
                if basic.end() < end:
                    yield from self._commands(text, basic.end(), end, lead=lead, first=False, guess=guess)
                return
        yield self._placed(found or self._one(whole, guess), shift)

    def _placed(self, part: Part, shift: int) -> Part:
        secrets = tuple((a + shift, b + shift) for a, b in part.secrets)
        return msgspec.structs.replace(part, start=part.start + shift, secrets=secrets) if shift else part

    def _moved(self, part: Part, places: Sequence[int]) -> Part:
        """A part with its places in the line as it was said, with what the module leaves out."""
        if len(places) == places[-1] + 1:
            return part
        secrets = tuple((places[a], places[b]) for a, b in part.secrets)
        return msgspec.structs.replace(part, start=places[part.start], secrets=secrets, as_written=False)

    def _known(self, text: str) -> Part | None:
        """The part that a command is, by the forms of the lexicon. Of several that it fits, a write whose values are allowed
        goes first, then a question, then what is an action's own line: actions say other lines too."""
        made = [self._made(form, found, text) for form in self.forms if form.fixed and (found := form.found(text))]
        return min(made, key=_rank, default=None)

    def _made(self, form: Form, found: re.Match[str], text: str) -> Part:
        words, as_written = form.words(found), form.is_as_written(text)
        values = form.values(words)
        if form.does is Does.WRITES and not values and (loose := form.loosely(text)):
            values = form.values(form.words(loose))
            if values:
                found, words, as_written = loose, form.words(loose), False
        return Part(
            text,
            form.does,
            form.name,
            words,
            values,
            secrets=self._secret_places(form, found, text),
            as_written=as_written,
            form=form,
        )

    def _secret_places(self, form: Form, found: re.Match[str], text: str) -> tuple[tuple[int, int], ...]:
        """Where the secret values of a form stand: of bytes in digits, all behind what the form begins with."""
        if not form.secret:
            return ()
        if form.speech.in_digits:
            start = form.reaches(text)
            return ((start, len(text)),) if start is not None else ()
        spans = [
            found.span(f"v{at}")
            for at, (name, filters) in enumerate(form.template.insertions())
            if name in form.secret and filters[-1:] != ["length"]
        ]
        return tuple((start, end) for start, end in spans if end > start)

    def _one(self, text: str, guess: bool) -> Part:
        if found := self._known(text):
            return found
        # It may be half a line, or one that the module refuses: what it leads to is a secret nevertheless.
        reached = [at for one in self.forms if one.secret and (at := one.reaches(text)) is not None and at < len(text)]
        others = any(one.reaches(text) is not None for one in self.forms if not one.secret)
        if guess and not reached and not others and (usual := _USUAL.match(text)) and usual.end() < len(text):
            reached = [usual.end()]
        secrets = ((min(reached), len(text)),) if reached else ()
        return Part(text, Does.UNKNOWN, secrets=secrets)


def _logins(lexicon: Lexicon, forms: Sequence[Form]) -> Iterator[tuple[str, Form]]:
    """The prompts of a login, each with the line that answers it. A prompt may come without the blank at its end."""
    asked = [text.rstrip() for text in lexicon.attention.locked]
    for form in (one for one in forms if one.does is Does.LOGS_IN and not one.fixed and one.template.names):
        yield (form.after or (asked[0] if asked else "")).rstrip() or "\0", form


def _rank(part: Part) -> int:
    if part.does is Does.WRITES:
        return 0 if part.values or (part.form and part.form.payload) else 3
    if part.does is Does.ASKS:
        return 1 if part.name else 2
    return 2 if part.form and part.form.own else 4


def secret_words(text: str) -> list[str]:
    """What of the secret end of a line may be a secret by itself: all of it, and each value in it."""
    parts = [part for part in _AROUND.split(text) if len(part) >= _SHORTEST]
    whole = text.strip().strip("\"'")
    return list(dict.fromkeys([*([whole] if len(whole) >= _SHORTEST_WHOLE else []), *parts]))


def said_secrets(text: str, parts: Sequence[Part]) -> Iterator[str]:
    """Every secret in a line: as it stands there, each value in it, and as the module understands it."""
    for part in parts:
        for start, end in part.secrets:
            yield from secret_words(text[start:end])
        if part.form:
            yield from (word for name, word in part.words.items() if name in part.form.secret and word)


def _cleaned(text: str) -> tuple[str, list[int]]:
    """The line as the module has it: a backspace has taken away the character before it (V.250, 6.2.3, parameter S5), NUL is
    none; and where each character stood, with the end of the line behind the last."""
    if not re.search(r"[\x00\x08\x7f]", text):
        return text, list(range(len(text) + 1))
    made: list[tuple[str, int]] = []
    for at, char in enumerate(text):
        if char in "\x08\x7f":
            del made[-1:]
        elif char != "\x00":
            made.append((char, at))
    return "".join(char for char, _ in made), [*(at for _, at in made), len(text)]


def _segments(text: str, start: int) -> Iterator[tuple[int, int]]:
    """Where the commands of a line stand, parted by `;` outside of quotes."""
    begin, quoted, at = start, False, start
    while at < len(text):
        char = text[at]
        if quoted and char == "\\":
            at += 1
        elif char == '"':
            quoted = not quoted
        elif char == ";" and not quoted:
            yield begin, at
            begin = at + 1
        at += 1
    if begin < len(text) or begin == start:
        yield begin, len(text)
