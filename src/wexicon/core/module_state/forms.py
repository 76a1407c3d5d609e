"""The lines that a lexicon says, as forms: what fills a template is found again in a line that anybody said.

The rule: a form is the inverse of its template. Letters in any case and blanks are no difference for finding it, because a
secret stands there however it is typed; whether the line is as the lexicon writes it is told apart.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from enum import StrEnum
from functools import cached_property

import msgspec

from wexicon.core.dialogue.blocks import Say
from wexicon.core.formats.lexicon import Action, Lexicon, Phrase, Setting, SettingGroup
from wexicon.core.formats.lexicon.blocks import BlockFault, bits_of, take_block
from wexicon.core.formats.lexicon.phrase import value_of_case
from wexicon.core.protocol.dialect import OK, Expectation
from wexicon.core.protocol.fields import Chars, Counted, NumberForm, field
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.speech import Speech
from wexicon.core.standards.charsets import gsm7_from_hex, ucs2_text
from wexicon.core.text import UNQUOTING, to_text
from wexicon.core.values import UNSET, Kind, List, Value, ValueFault


class Does(StrEnum):
    """What a line does: asks (and who the module is), writes settings, runs an action, gives a payload that was announced,
    brings the module to listen, logs in, ends a line or a page and nothing else; or nobody knows."""

    ASKS = "asks"
    WRITES = "writes"
    ACTS = "acts"
    PAYLOAD = "payload"
    ESCAPES = "escapes"
    LOGS_IN = "logs in"
    ENDS = "ends"
    UNKNOWN = "unknown"


class Form(msgspec.Struct, eq=False, dict=True):
    """A template as it is found in a line. `does` and `name` say what the line does (`name`: the setting, the group or the
    action), `settings` which setting each insertion writes, `secret` which insertions are secret; `phrase` or `answer` is what
    answers it, `payload` what follows a prompt. `own`: the line is what the action does, and not a question among its lines.
    `after` is the prompt that it answers, `of` the settings as whose values an action writes."""

    template: Template
    does: Does
    name: str
    speech: Speech
    settings: Mapping[str, Setting] = {}
    of: Mapping[str, Setting] = {}
    secret: frozenset[str] = frozenset()
    phrase: Phrase | None = None
    answer: Expectation | None = None
    payload: Template | None = None
    case: Mapping[str, Value] = {}
    group: SettingGroup | None = None
    own: bool = True
    after: str = ""

    @cached_property
    def expect(self) -> Expectation:
        """What answers it."""
        if self.answer or not self.phrase:
            return self.answer or OK
        return self.phrase.prompted if self.payload else self.phrase.expect

    @property
    def within(self) -> float | None:
        """How long the answer may take (seconds), if not as usual."""
        return self.phrase.within if self.phrase else None

    @cached_property
    def fixed(self) -> int:
        """How many characters of it are always the same."""
        return sum(len(part) for part in self.template.parts if isinstance(part, str))

    @cached_property
    def _strict(self) -> re.Pattern[str]:
        return re.compile(self._source(False), re.DOTALL)

    @cached_property
    def _loose(self) -> re.Pattern[str]:
        return re.compile(self._source(True), re.DOTALL | re.IGNORECASE)

    @cached_property
    def _begins(self) -> str:
        return "".join(self.lead.split()).casefold()

    @property
    def settings_named(self) -> list[str]:
        """The settings that it writes."""
        return list(
            dict.fromkeys(
                [*self.case, *(one.name for name, one in self.settings.items() if name in self.template.names)]
            )
        )

    @property
    def lead(self) -> str:
        """The text before the first value."""
        return self.template.lead

    def found(self, text: str) -> re.Match[str] | None:
        """Where its values stand in a line that is this one, in any case and with any blanks."""
        bare = "".join(text.split())
        if not bare.casefold().startswith(self._begins):
            return None  # no expression is compiled for it
        text = bare.upper() if self.speech.in_digits else text
        return self._strict.fullmatch(text) or self._loose.fullmatch(text)

    def loosely(self, text: str) -> re.Match[str] | None:
        """The same, where blanks at the ends belong to no value."""
        return self._loose.fullmatch("".join(text.split()).upper() if self.speech.in_digits else text)

    def is_as_written(self, text: str) -> bool:
        """Whether the line is letter by letter as the lexicon writes it."""
        return self._strict.fullmatch("".join(text.split()).upper() if self.speech.in_digits else text) is not None

    def reaches(self, text: str) -> int | None:
        """The column at which a line, perhaps an unfinished one, has the first value; None if it is another line, or not so
        far yet."""
        wanted = [char for char in self.lead.casefold() if not char.isspace()]
        if not wanted or not self.template.names:
            return None
        at = 0
        for char in wanted:
            while at < len(text) and text[at].isspace():
                at += 1
            if at >= len(text) or text[at].casefold() != char:
                return None
            at += 1
        return at

    def words(self, found: re.Match[str]) -> dict[str, str]:
        """What fills each insertion, in the words of the one who said it."""
        made: dict[str, str] = {}
        for at, (name, filters) in enumerate(self.template.insertions()):
            text = found[f"v{at}"]
            try:
                text = self._unfiltered(text, filters, between_quotes=f"q{at}" in found.re.groupindex)
            except ValueError:
                continue
            if "length" not in filters:
                made.setdefault(name, text)
        return made

    def length(self, found: re.Match[str]) -> int | None:
        """How long the payload is that the line announces, in bytes; None if it ends otherwise."""
        for at, (_, filters) in enumerate(self.template.insertions()):
            if filters[-1:] == ["length"] and found[f"v{at}"].isdecimal():
                return int(found[f"v{at}"])
        return None

    def values(self, words: Mapping[str, str]) -> dict[str, Value]:
        """The plain values of the settings that it writes, as far as they can be understood."""
        if self.group and self.group.size and "block" in words:
            return self._in_block(words["block"])
        made: dict[str, Value] = dict(self.case)
        for name, setting in self.settings.items():
            if name in words:
                kind = setting.kind.of if isinstance(setting.kind, List) and setting.add else setting.kind
                if words[name] == setting.unset and setting.may_be_unset():
                    made[setting.name] = UNSET
                elif (value := _written_as(kind, words[name])) is not None:
                    made[setting.name] = value
        return made

    def _in_block(self, digits: str) -> dict[str, Value]:
        assert self.group
        try:
            block = take_block(self.group, digits)
        except BlockFault:
            return {}
        made: dict[str, Value] = {}
        for setting in self.settings.values():
            if setting.place:
                try:
                    made[setting.name] = setting.kind.decode(str(bits_of(block, setting.place)))
                except ValueFault:
                    continue
        return made

    # -- the expression -------------------------------------------------------------------------------------------

    def _source(self, loose: bool) -> str:
        """The template as an expression; the value of insertion N is its group vN. A value between quotes of the template has
        an empty group qN before it."""
        made, quotes, last = "", 0, len(self.template.parts) - 1
        at = 0
        for index, part in enumerate(self.template.parts):
            if isinstance(part, str):
                made += self._literal(part, loose)
                quotes += part.count('"')
                continue
            own, inside = self._value(part[1], between_quotes=quotes % 2 == 1, last=index == last and not loose)
            made += own.format(value=f"(?P<v{at}>{inside})", mark=f"(?P<q{at}>)" if quotes % 2 else "")
            at += 1
        blank = r"[ \t\x00]*" if loose else ""
        return f"{blank}{made}{blank}"

    def _literal(self, text: str, loose: bool) -> str:
        if self.speech.in_digits:
            return re.escape("".join(text.split()).upper())
        if not loose:
            return re.escape(text)
        between = r"[ \t]*" if text[:2].upper() == "AT" else ""
        runs = re.split(r"[ \t]+", text)
        return r"[ \t]+".join(between.join(map(re.escape, run)) for run in runs) + between

    def _value(self, filters: list[str], *, between_quotes: bool, last: bool) -> tuple[str, str]:
        """What stands around a value, and the expression for it."""
        word = filters[-1] if filters else ""
        if between_quotes:
            return "{mark}{value}", r'(?:[^"\\]|\\.|"")*'
        if word == "quoted":
            return '"{value}"', r'(?:[^"\\]|\\.|"")*' if self.speech.quoting != "double" else r'(?:[^"]|"")*'
        if form := field(word) if word else None:
            return "{value}", form.run() if isinstance(form, NumberForm | Chars | Counted) else ".*"
        if word == "length":
            return "{value}", "[0-9]+"
        if word in ("hex", "ucs2", "gsm7", "checksum"):
            return "{value}", "[0-9A-Fa-f]*"
        return "{value}", ".*" if last else ".*?"

    def _unfiltered(self, text: str, filters: list[str], *, between_quotes: bool) -> str:
        """What a value was before its filters. Raises ValueError."""
        if between_quotes:
            text = UNQUOTING[self.speech.quoting](text)
        for word in reversed(filters):
            if word == "quoted":
                text = UNQUOTING[self.speech.quoting](text)
            elif form := field(word):
                text = str(form.of_hex(text.upper()))
            elif word in _INVERSE:
                text = _INVERSE[word](text)
            elif word.startswith("value(") and (setting := self.of.get(word[6:-1])):
                text = setting.kind.show(setting.kind.decode(text))
        return text


def _written_as(kind: Kind, word: str) -> Value | None:
    """The value that a kind writes so: a module may be told another writing than it tells. None if it is no allowed value."""
    ways: list[Callable[[str], Value]] = [kind.decode, kind.typed]
    ways += [lambda _, one=one: kind.check(one) for one in getattr(kind, "codes", None) or ()]  # type: ignore[misc]
    for way in ways:
        try:
            value = kind.check(way(word))
            if kind.encode(value).casefold() == word.casefold():
                return value
        except ValueFault:
            continue
    return None


_INVERSE: dict[str, Callable[[str], str]] = {
    "hex": lambda text: to_text(bytes.fromhex(text)),
    "ucs2": lambda text: ucs2_text(bytes.fromhex(text)),
    "gsm7": gsm7_from_hex,
}


def forms_of(lexicon: Lexicon) -> list[Form]:
    """Every line that a lexicon says; those with more fixed text first, because they fit fewer lines."""
    return sorted(_forms(lexicon), key=lambda one: -one.fixed)


def _forms(lexicon: Lexicon) -> Iterator[Form]:
    speech, attention = lexicon.speech, lexicon.attention
    questions = [*lexicon.identify, *lexicon.also, attention.probe, attention.whole, attention.select]
    for phrase in filter(None, questions):
        yield Form(phrase.say, Does.ASKS, "", speech, phrase=phrase)
    for setting in lexicon.settings.values():
        yield from _of_setting(setting, speech)
    for group in lexicon.groups.values():
        members = {one.name: one for one in lexicon.settings.values() if one.in_group is group}
        if group.read:
            yield Form(group.read.say, Does.ASKS, group.name, speech, phrase=group.read)
        if group.write:
            secret = frozenset(name for name, one in members.items() if one.secret)
            if secret and group.size:
                secret = frozenset({"block"})
            common = {"settings": members, "secret": secret, "phrase": group.write, "group": group}
            # Where a line of its own says that a member is off, this one says that it is on.
            on = {name: True for name, value, _ in group.lines if value is False}
            payload = group.write.payload
            yield Form(group.write.say, Does.WRITES, group.name, speech, payload=payload, case=on, **common)  # type: ignore[arg-type]
            for name, value, line in group.lines:
                yield Form(line, Does.WRITES, group.name, speech, case={name: value}, **common)  # type: ignore[arg-type]
    for action in lexicon.actions.values():
        yield from _of_action(action, lexicon)


def _of_setting(setting: Setting, speech: Speech) -> Iterator[Form]:
    for phrase in (setting.read, setting.granted.question if setting.granted else None):
        if phrase:
            yield Form(phrase.say, Does.ASKS, setting.name, speech, phrase=phrase)
    for write in (setting.write, setting.add, setting.remove):
        if write is None:
            continue
        secret = frozenset({"value"}) if setting.secret else frozenset[str]()
        yield Form(
            write.say,
            Does.WRITES,
            setting.name,
            speech,
            settings={"value": setting},
            secret=secret,
            phrase=write,
            payload=write.payload,
        )
        for case, line in write.cases.items():
            value = UNSET if case == "unset" else value_of_case(setting.kind, case)
            if value is not None:
                yield Form(line, Does.WRITES, setting.name, speech, phrase=write, case={setting.name: value})


def _of_action(action: Action, lexicon: Lexicon) -> Iterator[Form]:
    """The lines of an action; exact bytes behind a prompt are the payload of the line before."""
    secret, of = frozenset(action.program.secrets()), lexicon.settings
    does = Does.LOGS_IN if action.name == lexicon.attention.unlock and lexicon.attention.locked else Does.ACTS
    lines = _said(action)
    alone = {said[0].source for one in lexicon.actions.values() if len(said := _said(one)) == 1}
    for at, line in enumerate(lines):
        before = lines[at - 1] if at else None
        if line.exact and before is not None and before.hears and before.hears[-1].prompt:
            continue
        after = lines[at + 1] if at + 1 < len(lines) else None
        prompted = bool(line.hears and line.hears[-1].prompt and after and after.exact)
        yield Form(
            line.template,
            does,
            action.name,
            lexicon.speech,
            of=of,
            secret=secret,
            answer=line.expectation,
            payload=after.template if prompted and after else None,
            after=before.hears[-1].pattern.start if before and before.hears and before.hears[-1].prompt else "",
            own=len(lines) == 1 or (at == 0 and line.source not in alone),
        )


def _said(action: Action) -> list[Say]:
    return [one for one in action.program.walk() if isinstance(one, Say)]


class Payload(msgspec.Struct):
    """What must follow a line: the bytes that are left, or those that end it; whose it is, and whether it is a secret."""

    form: Form
    left: int | None
    ends: bytes
    secret: bool
    said: bytes = b""
    # Whether the module has sent its prompt for it.
    prompted: bool = False
