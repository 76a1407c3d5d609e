"""What a port sent besides test packets: answers of a module that took them for commands, events, text of others.

The rule: each line is shown as it came, with its meaning where the lexicon has one.
"""

from __future__ import annotations

import re
from collections import Counter

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Heard
from wexicon.core.protocol.session import Session
from wexicon.core.text import visible, written
from wexicon.work.contact.symptoms import is_refusal

# How many different lines are shown.
MOST_TOLD = 5
_PACKET = "WX"


def other_lines(session: Session) -> Counter[str]:
    """The lines that were no packets, as often as they came."""
    heard = "".join(seen.text for seen in session.recent if isinstance(seen, Heard))
    lines = (line.strip() for line in re.split("[\r\n]+", heard))
    return Counter(line for line in lines if line and not line.startswith(_PACKET))


def refusals(session: Session) -> tuple[int, str]:
    """How many lines refuse a command, and the last of them."""
    refused = [(line, count) for line, count in other_lines(session).items() if is_refusal(line)]
    return sum(count for _, count in refused), refused[-1][0] if refused else ""


def told(session: Session, lexicon: Lexicon | None) -> list[str]:
    """The most frequent of them, with their meaning."""
    return [
        (f"{count} times " if count > 1 else "") + f"“{visible(line)}”" + _meaning(line, lexicon)
        for line, count in other_lines(session).most_common(MOST_TOLD)
    ]


def _meaning(line: str, lexicon: Lexicon | None) -> str:
    if lexicon is None:
        return ""
    if final := lexicon.dialect.final(line):
        meaning = lexicon.errors.get(final.code, "")
        return f" ({meaning})" if meaning else f" ({final.status})"
    if event := lexicon.dialect.event(line):
        name, values = event
        given = ", ".join(f"{key} {visible(written(value))}" for key, value in values.items())
        return f" (event {name}{': ' if given else ''}{given})"
    return ""
