"""What is missing in a lexicon without being wrong.

The rule: a gap never keeps a lexicon from being used; it is reported so that the author can look it up in the datasheet.
"""

from __future__ import annotations

from collections.abc import Iterator

from wexicon.core.formats.lexicon.model import Lexicon, Setting
from wexicon.core.protocol.dialect import Dialect, compiled
from wexicon.core.protocol.elements import sample
from wexicon.core.values import Address, ChoiceKind, ValueFault


def overlaps(dialect: Dialect) -> Iterator[str]:
    """Patterns that fit the same lines, one for a success and one for an error. What is spelled out is never meant
    otherwise."""
    speech = dialect.speech
    for ok in speech.ok:
        for error in speech.errors:
            for one, other in ((ok, error), (error, ok)):
                spelled_out = compiled(other).start == other
                if one != other and not spelled_out and compiled(one).match(sample(compiled(other))) is not None:
                    yield f"“{other}” also fits “{one}”; the one that spells out more wins"
        if ok in speech.errors:
            yield f"“{ok}” is both a success and an error"


def _values_like_codes(lexicon: Lexicon) -> Iterator[tuple[str, str]]:
    """Answers without a word of their own that a result code may look like. Behind every answer the success code would tell."""
    dialect = lexicon.dialect
    if dialect.speech.closing == "always" or dialect.speech.in_digits:
        return
    for name, setting in lexicon.settings.items():
        wants = setting.read.expect.wants if setting.read else ()
        if len(wants) != 1 or wants[0].pattern.start or wants[0].gather:
            continue
        for value in _examples(setting):
            final = dialect.final(value)
            if final is not None:
                what = f"the answer “{value}” would be taken for a result code ({final.status})"
                yield f"setting.{name}", f'{what}; if the success code follows every answer, say closing = "always"'
                break


def _examples(setting: Setting) -> Iterator[str]:
    """Some of the module's words for values of a setting."""
    kind = setting.kind
    tried: list[object] = [setting.factory, *range(10), "0", "1", "4", "OK", "ERROR", True, False]
    if isinstance(kind, ChoiceKind):
        tried += kind.codes
    for value in tried:
        try:
            yield kind.encode(kind.check(value))
        except ValueFault:
            continue


def _hidden_events(lexicon: Lexicon) -> Iterator[tuple[str, str]]:
    """Events that are never told, because another one fits their lines too."""
    if lexicon.dialect.form == "json":
        return
    # What it sends when it starts is among them by names of its own.
    own = {name: pattern for name, pattern in lexicon.events.items() if not name.startswith(("start", "ready"))}
    for name, pattern in own.items():
        told = lexicon.dialect.event(sample(pattern))
        if told and told[0] != name and lexicon.events[told[0]].source != pattern.source:
            yield f"events.{name}", f"its lines are taken for {told[0]}, which comes first: put {name} before it"


def _lengths(lexicon: Lexicon) -> Iterator[tuple[str, str]]:
    """Addresses that are heard with another number of digits than they are written with."""
    for name, setting in lexicon.settings.items():
        kind = setting.kind
        if isinstance(kind, Address) and kind.heard:
            heard = sum(char in "Xx" for char in kind.heard)
            if heard != kind.digits():
                yield f"setting.{name}", f"is written with {kind.digits()} digits and heard with {heard}"


def gaps(lexicon: Lexicon) -> list[tuple[str, str]]:
    """What is missing in a lexicon without being wrong, as (place, what)."""
    found: list[tuple[str, str]] = []
    for name, setting in lexicon.settings.items():
        if not setting.readable:
            found.append((f"setting.{name}", "cannot be read back; it will only ever be “accepted”"))
        if not setting.writable:
            found.append((f"setting.{name}", "cannot be written"))
        if not setting.meaning:
            found.append((f"setting.{name}", "has no meaning"))
    found += [("speech", what) for what in overlaps(lexicon.dialect)]
    found += [*_values_like_codes(lexicon), *_hidden_events(lexicon), *_lengths(lexicon)]
    start = lexicon.start
    if lexicon.restart() and not (start.says or start.ready or start.within):
        found.append(("start", "it restarts, and [start] does not say how long that takes, nor what it sends then"))
    if any("{code" in error for error in (*lexicon.speech.errors, *lexicon.speech.reason)) and not lexicon.errors:
        found.append(("errors", "error numbers have no meaning"))
    if not lexicon.identify:
        found.append(("identify", "nothing tells one module from another"))
    elif not lexicon.unit:
        found.append(("identify.unit", "no capture is said to be the unit's own"))
    if lexicon.attention.how != "always" and not lexicon.actions.get("leave") and not lexicon.attention.data_pins:
        found.append(("action.leave", "the module is left in command mode"))
    return found
