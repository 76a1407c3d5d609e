"""What is missing in a lexicon without being wrong.

The rule: a gap never keeps a lexicon from being used; it is reported so that the author can look it up in the datasheet.
"""

from __future__ import annotations

from collections.abc import Iterator

from wexicon.core.formats.lexicon.model import Lexicon
from wexicon.core.protocol.dialect import Dialect, compiled
from wexicon.core.protocol.elements import sample


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
