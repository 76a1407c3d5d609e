"""In which order settings are written, and which of them together.

The rule: what others need comes first, what moves the link comes last, all else as it is in the lexicon.
"""

from __future__ import annotations

from collections.abc import Iterable

from wexicon.core.formats.lexicon import Lexicon


def ordered(lexicon: Lexicon, names: Iterable[str]) -> list[str]:
    """The names in the order of writing."""
    wanted = set(names)
    ranked = [name for name in lexicon.settings if name in wanted]
    made: list[str] = []

    def put(name: str, above: tuple[str, ...] = ()) -> None:
        for need in lexicon.settings[name].needs:
            if need in wanted and need not in above:
                put(need, (*above, name))
        if name not in made:
            made.append(name)

    for moves in (False, True):
        for name in ranked:
            if bool(lexicon.settings[name].moves_link) == moves:
                put(name)
    return made


def together(lexicon: Lexicon, names: Iterable[str]) -> list[list[str]]:
    """Settings of one group that is written as a whole stand together, in the place of the last of them."""
    made: dict[str, list[str]] = {}
    for name in names:
        setting = lexicon.settings[name]
        key = f"group {setting.group.name}" if setting.group and not setting.write else name
        made[key] = [*made.pop(key, []), name]
    return list(made.values())
