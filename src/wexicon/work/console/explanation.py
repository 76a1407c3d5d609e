"""What a line means by the lexicon, for the reader: errors with their meaning, coded values, units, events by name.

The rule: nothing is said of a line that the lexicon does not know; a secret is only ever said to be there.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.text import visible, written
from wexicon.core.values import ValueFault
from wexicon.core.values.base import OUT_OF_RANGE
from wexicon.work.contact.rate_changes import put_in


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
                members = {name: one for name, one in lexicon.settings.items() if one.group is group}
                self._reads.append((group.read, members))

    def said(self, text: str) -> str:
        """What a line does that was typed: the setting that it reads or writes, the action whose it is."""
        for name, setting in self.lexicon.settings.items():
            if setting.read and text == setting.read.say.plain:
                return f"reads {name}"
            if setting.write and (coded := put_in(setting.write.say, text)) is not None:
                return f"writes {name}" if setting.secret else f"writes {name}: {_decoded(setting, coded)}"
        for name, action in self.lexicon.actions.items():
            if text in [line.removeprefix("> ") for line in action.program.wording().splitlines() if line[:2] == "> "]:
                return f"runs {name}" + (f": {action.meaning}" if action.meaning else "")
        return ""

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
