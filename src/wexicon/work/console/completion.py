"""What a line means by the lexicon, and what may be typed next: its questions, its writes, their values and ranges, and the
console's own commands.

The rule: what is suggested is what the module takes; a range that cannot be listed is reported as a hint instead. Nothing is
said of a line that the lexicon does not know; a secret is only ever said to be there.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from wexicon.core.dialogue.statements import STATEMENTS
from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.reader import Part, Reader
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.text import visible, written
from wexicon.core.values import ChoiceKind, Flag, FrameKind, Rate, Tuple, ValueFault
from wexicon.core.values.base import OUT_OF_RANGE, Kind

# What begins a line for the console itself.
MARK = ":"
_SET = re.compile(r"\s*set\s+([A-Za-z_][A-Za-z0-9_-]*)\s*=\s*")
_SAYS = re.compile(r"\s*>>?\s?")
# The console's own commands, beside the statements of a dialogue.
COMMANDS = {
    "help": "what can be typed here",
    "attention": "get the module's attention, as its lexicon says",
    "end": "line end: none, cr, lf, crlf",
    "flow": "flow control: none, rts-cts, xon-xoff",
    "allow": "how long answers are waited for: allow 20s, allow off",
    "data": "data mode: what is typed is passed on as it is: on, off",
    "hex": "every byte, both ways: on, off",
    "payload": "send a file as it is",
    "loop": "loopback test: are TX and RX joined?",
    "run": "run a dialogue from a file",
    "state": "what is known of the module now, and what that rests on",
    "keep": "write what was typed and heard as a dialogue to a file",
    "sheet": "write the module's settings as a sheet to a file",
    "quit": "end",
}
SAYS = {
    "> TEXT": "say a line",
    ">> BYTES": r"say exact bytes: \r \n \e \x1A",
    "tune": "our side's rate and frame: tune 115200 8N1",
    "signal": "control lines: signal dtr on rts off",
    "quiet": "send nothing for a time: quiet 1s",
    "do": "an action of the lexicon: do save",
    "set": "write a setting: set NAME = VALUE",
    "read": "read a setting: read NAME",
}
_BY_NAME = ("set", "read", "do")


class Suggestion(msgspec.Struct, frozen=True):
    """What may stand from column `start` on (counted from 0), and what it means."""

    text: str
    start: int
    meaning: str = ""


def secret_from(reader: Reader, text: str) -> int | None:
    """The column from which on a typed line is a secret; None where it is none."""
    start = 0
    if text.startswith(MARK):
        start = 1
        if text.startswith(MARK * 2):
            pass
        elif found := _SET.match(text, 1):
            setting = reader.lexicon.settings.get(found[1]) if reader.lexicon else None
            return found.end() if setting is None or setting.secret else None
        elif found := _SAYS.match(text, 1):
            start = found.end()
        else:
            return None
    column = reader.secret_from(text[start:])
    return None if column is None else start + column


def suggestions(lexicon: Lexicon | None, text: str) -> Iterator[Suggestion]:
    """What may be typed where `text` stands before the cursor."""
    if text.startswith(MARK):
        yield from _commands(lexicon, text)
    elif lexicon and text:
        yield from _values(lexicon, text)
        for line, meaning in _lines(lexicon):
            if line != text and line.lower().startswith(text.lower()):
                yield Suggestion(line, 0, meaning)


def hint(lexicon: Lexicon | None, text: str) -> str:
    """What the value that is being typed may be; empty where none is."""
    found = _written(lexicon, text) if lexicon else None
    return f"{found[0].name}: {found[0].kind.allowed()}" if found else ""


def _commands(lexicon: Lexicon | None, text: str) -> Iterator[Suggestion]:
    word, space, rest = text[1:].partition(" ")
    if not space:
        for name, meaning in {**SAYS, **COMMANDS}.items():
            if name.startswith(word):
                yield Suggestion(name.partition(" ")[0], 1, meaning)
        for name in STATEMENTS:
            if name.startswith(word) and word and name not in SAYS and name not in COMMANDS:
                yield Suggestion(name, 1, "a statement of a dialogue")
        return
    at = len(text) - len(rest)
    if lexicon and word in _BY_NAME:
        named = lexicon.actions if word == "do" else lexicon.settings
        for name, one in named.items():
            if name.startswith(rest):
                yield Suggestion(f"{name} = " if word == "set" else name, at, one.meaning)
        name, equals, typed = rest.partition("=")
        setting = lexicon.settings.get(name.strip()) if word == "set" and equals else None
        if setting:
            typed = typed.lstrip()
            for value in _plain_values(setting.kind):
                quoted = value if value.isdigit() or value in ("true", "false") else f'"{value}"'
                if quoted.startswith(typed):
                    yield Suggestion(quoted, len(text) - len(typed), setting.kind.allowed())


def _lines(lexicon: Lexicon) -> Iterator[tuple[str, str]]:
    """Every line that the lexicon can say, up to its first value, with what it does."""
    for phrase in lexicon.identify:
        yield phrase.say.plain, "who it is"
    for group in lexicon.groups.values():
        if group.read:
            yield group.read.say.plain, f"reads {group.name}"
        if group.write and not group.size:
            yield group.write.say.lead, f"writes {group.name}"
    for name, setting in lexicon.settings.items():
        if setting.read:
            yield setting.read.say.plain, f"reads {name}: {setting.meaning}"
        if setting.write:
            yield setting.write.say.lead, f"writes {name}: {setting.kind.allowed()}"
    for name, action in lexicon.actions.items():
        first = next((line[2:] for line in action.program.wording().splitlines() if line.startswith("> ")), "")
        if first:
            yield first.partition("{")[0], f"does {name}" + (f": {action.meaning}" if action.meaning else "")


def _written(lexicon: Lexicon, text: str) -> tuple[Setting, str] | None:
    """The setting whose value is being typed, and what of it stands there already."""
    found = None
    for setting in lexicon.settings.values():
        if setting.write and len(setting.write.say.names) == 1:
            before = setting.write.say.lead
            if before and text.startswith(before) and (found is None or len(before) > len(text) - len(found[1])):
                found = (setting, text[len(before) :])
    return found


def _values(lexicon: Lexicon, text: str) -> Iterator[Suggestion]:
    found = _written(lexicon, text)
    if not found or found[0].secret:
        return
    setting, typed = found
    for value in _plain_values(setting.kind):
        coded = setting.kind.encode(setting.kind.typed(value))
        if coded.startswith(typed) and coded != typed:
            shown = setting.kind.show(setting.kind.typed(value))
            yield Suggestion(coded, len(text) - len(typed), shown if shown != coded else "")


def _plain_values(kind: Kind) -> list[str]:
    """The values of a kind that can be listed."""
    if isinstance(kind, ChoiceKind | FrameKind):
        return list(kind.codes)
    if isinstance(kind, Flag):
        return ["true", "false"]
    if isinstance(kind, Rate):
        return [str(rate) for rate in kind.known()]
    if isinstance(kind, Tuple):
        return _plain_values(kind.fields[0].value)
    return []


class Explainer:
    """Explains the lines of one lexicon."""

    def __init__(self, lexicon: Lexicon) -> None:
        self.lexicon = lexicon
        # What reads settings: the phrase, and the settings by the captures that tell them.
        self._reads: list[tuple[Phrase, dict[str, Setting]]] = []
        for setting in lexicon.settings.values():
            if setting.read:
                self._reads.append((setting.read, {"value": setting}))
        for group in lexicon.groups.values():
            if group.read and not group.size:
                members = {name: one for name, one in lexicon.settings.items() if one.in_group is group}
                self._reads.append((group.read, members))

    def said(self, parts: Sequence[Part]) -> str:
        """What a line of these parts does: the settings that it reads or writes, the action whose it is."""
        return "; ".join(filter(None, map(self._does, parts)))

    def _does(self, part: Part) -> str:
        if part.does is Does.PAYLOAD:
            return f"payload of {part.name}"
        if part.does is Does.ASKS:
            return f"reads {part.name}" if part.name else ""
        if part.does is Does.WRITES and part.form:
            told = [self._value(name, part) for name in part.form.settings_named]
            return f"writes {', '.join(filter(None, told))}" if any(told) else ""
        if part.does in (Does.ACTS, Does.LOGS_IN) and part.form and part.form.own:
            meaning = self.lexicon.actions[part.name].meaning
            return f"runs {part.name}" + (f": {meaning}" if meaning else "")
        return ""

    def _value(self, name: str, part: Part) -> str:
        """A setting that a line writes, with its value."""
        setting = self.lexicon.settings[name]
        if setting.secret:
            return name
        if name in part.values:
            return f"{name}: {visible(setting.show(part.values[name]))}"
        word = part.words.get("value", part.words.get(name))
        return f"{name}: {_decoded(setting, word)}" if word is not None else ""

    def heard(self, said: str, seen: Heard) -> str:
        """What a line means that the module sent; `said` is what it may answer."""
        if seen.role is Role.ERROR:
            final = self.lexicon.dialect.final(seen.text)
            return self.lexicon.errors.get(final.code, "") if final else ""
        if seen.role is Role.EVENT or seen.name:
            return f"{seen.name}{_listed(seen.values)}"
        if seen.role in (Role.OK, Role.ECHO, Role.PROMPT):
            return ""
        return "; ".join(self._answers(said, seen.text))

    def _answers(self, said: str, text: str) -> Iterator[str]:
        # Several answers may look alike: the one of the line that was said goes first.
        for phrase, settings in sorted(self._reads, key=lambda one: one[0].say.plain != said):
            for want in phrase.expect.wants:
                known = want.pattern.start or said == phrase.say.plain
                captures = want.pattern.match(text) if known else None
                for name, value in (captures or {}).items():
                    if name in settings:
                        yield f"{settings[name].name}: {_decoded(settings[name], str(value))}"
                if captures is not None:
                    return
        for phrase in self.lexicon.identify:
            for want in phrase.expect.wants:
                captures = want.pattern.match(text) if said == phrase.say.plain else None
                if captures:
                    yield _listed(captures).removeprefix(": ")
                    return


def _decoded(setting: Setting, coded: str) -> str:
    if setting.secret:
        return setting.show("")
    try:
        value = setting.kind.decode(coded)
    except ValueFault as fault:
        if fault.why == OUT_OF_RANGE:
            return f"{visible(coded)} {fault.why}; allowed: {fault.allowed}"
        return f"not understood: it {visible(fault.why)}"
    try:
        setting.kind.check(value)
    except ValueFault as fault:
        return f"{visible(setting.show(value))} {fault.why}; allowed: {fault.allowed}"
    return visible(setting.show(value))


def _listed(values: Mapping[str, object]) -> str:
    told = ", ".join(f"{name} {visible(written(value))}" for name, value in values.items())
    return f": {told}" if told else ""
