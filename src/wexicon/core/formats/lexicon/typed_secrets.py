"""Finds the secret in a line that is being typed: it is shown as stars, goes into no history, and is masked everywhere.

The rule: a typed line is read as the lexicon would say it, in any case and with any blanks; every line of the lexicon that has
a secret in it counts, from its first value on. In doubt it is a secret: the usual words for one are enough.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from wexicon.core.dialogue.blocks import Say
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.insertion import Template

MARK = ":"
# Commands whose name says that a secret follows: V.250 and 3GPP TS 27.007 (+CPIN, +CPWD, +CLCK), and what makers call it.
_USUAL = re.compile(r"(?i)[\w+#$%&^*@ ]*(?:pin|pass|pwd|psk|key|secret|auth|clck|code|join|access)\w*\s*[=:, ]\s*")
_SET = re.compile(r"\s*set\s+([A-Za-z_][A-Za-z0-9_-]*)\s*=\s*")
_SAYS = re.compile(r"\s*>>?\s?")
# What a value may stand between.
_AROUND = re.compile(r"[\s\"',;=]+|\\[rnt0e]|\\x[0-9A-Fa-f]{2}|[\x00-\x1f]+")
# The shortest part of a line that is taken for a secret by itself.
_SHORTEST = 4


def secret_from(lexicon: Lexicon | None, text: str) -> int | None:
    """The column from which on a typed line is a secret; None where it is none."""
    start = 0
    if text.startswith(MARK):
        start = 1
        if text.startswith(MARK * 2):
            pass
        elif found := _SET.match(text, 1):
            setting = lexicon.settings.get(found[1]) if lexicon else None
            return found.end() if setting is None or setting.secret else None
        elif found := _SAYS.match(text, 1):
            start = found.end()
        else:
            return None
    places = [start + at for one in _templates(lexicon) if (at := _reaches(one, text[start:])) is not None]
    if places:
        return min(places)
    known = lexicon is not None and any(_reaches(one, text[start:]) is not None for one in _others(lexicon))
    usual = None if known else _USUAL.match(text, start)
    return usual.end() if usual and usual.end() < len(text) else None


def parts_of(secret: str) -> list[str]:
    """What of the end of a line may be a secret: all of it, and each value in it."""
    parts = [part for part in _AROUND.split(secret) if len(part) >= _SHORTEST]
    whole = secret.strip().strip("\"'")
    return list(dict.fromkeys([*([whole] if len(whole) >= 3 else []), *parts]))


def _templates(lexicon: Lexicon | None) -> Iterator[Template]:
    """Every line that the lexicon says with a secret in it."""
    if lexicon is None:
        return
    for setting in lexicon.settings.values():
        for phrase in (setting.write, setting.in_group.write if setting.in_group else None):
            if setting.secret and phrase:
                yield from (phrase.say, *phrase.cases.values())
    for action in lexicon.actions.values():
        secrets = action.program.secrets()
        for statement in action.program.walk():
            if isinstance(statement, Say) and secrets.intersection(statement.template.names):
                yield statement.template


def _others(lexicon: Lexicon) -> Iterator[Template]:
    """Every line that writes a setting which is no secret."""
    for setting in lexicon.settings.values():
        if setting.write and not setting.secret:
            yield setting.write.say


def _reaches(template: Template, text: str) -> int | None:
    """The column at which a typed line has the first value of a template; None where it is another line, or not yet so far."""
    wanted = [char for char in template.lead.casefold() if not char.isspace()]
    if not wanted or not template.names:
        return None
    at = 0
    for char in wanted:
        while at < len(text) and text[at].isspace():
            at += 1
        if at >= len(text) or text[at].casefold() != char:
            return None
        at += 1
    return at
