"""One line of a manual conversation (`wexicon talk`).

The rule: its text is safe to show.
"""

from __future__ import annotations

from datetime import datetime

import msgspec


class Shown(msgspec.Struct, frozen=True):
    """One line to be seen: when; `>` said, `>>` said exactly, `<` heard, `~` our side, `=` told by Wexicon, `!` wrong; the
    text, safe to show; what it means; `event`, `aside`, `error`, `broken`, `partial`, `bytes` or `` by what it was; the name
    and number of its side, where there are two."""

    at: datetime
    mark: str
    text: str
    meaning: str = ""
    kind: str = ""
    side: str = ""
    number: int = 0
