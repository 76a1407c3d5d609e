"""How a line of a conversation looks, on a terminal and in a pipe: time, mark, text, and what it means.

The rule: both look the same; a pipe has no colours.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from wexicon.cli.show import styled

if TYPE_CHECKING:
    from wexicon.work.results.talk import Shown

STYLES = {">": "bold", ">>": "bold", "~": "cyan", "=": "", "!": "magenta"}
KINDS = {"event": "magenta", "error": "red", "unmatched": "", "corrupt": "red", "partial": "", "bytes": "bright_black"}
MEANING_AT = 36
# The colours of two sides.
SIDES = ("", "cyan", "magenta")


def line_of(shown: Shown) -> str:
    """One line as it stands on the terminal."""
    style = KINDS.get(shown.kind, "") if shown.kind else STYLES.get(shown.mark, "green" if shown.mark == "<" else "")
    text = styled(f"{shown.mark:2} {shown.text}", style)
    if shown.meaning:
        text += " " * max(2, MEANING_AT - len(shown.text)) + styled(shown.meaning, "cyan")
    side = styled(f"{shown.side:8}  ", f"bold {SIDES[shown.number]}") if shown.side else ""
    return f"{shown.at:%H:%M:%S}.{shown.at.microsecond // 1000:03}  {side}{text}"
