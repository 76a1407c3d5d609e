"""What is missing in a lexicon without being wrong.

The rule: a gap never keeps a lexicon from being used; it is told so that somebody may look it up in the datasheet.
"""

from __future__ import annotations

from wexicon.core.formats.lexicon.model import Lexicon


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
    if any("{code" in error for error in (*lexicon.speech.errors, *lexicon.speech.reason)) and not lexicon.errors:
        found.append(("errors", "error numbers have no meaning"))
    if not lexicon.identify:
        found.append(("identify", "nothing tells one module from another"))
    elif not lexicon.unit:
        found.append(("identify.unit", "no capture is said to be the unit's own"))
    if lexicon.attention.how != "always" and not lexicon.actions.get("leave") and not lexicon.attention.data_pins:
        found.append(("action.leave", "the module is left in command mode"))
    return found
