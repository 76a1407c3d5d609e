"""A value kind as it is in a file: `{ kind = "int", min = 0, max = 9 }`.

The rule: kinds are looked up by name among those that are registered; each checks itself, and what is wrong with it is
told with its place.
"""

from __future__ import annotations

from wexicon.core.formats.toml import Source
from wexicon.core.text import meant
from wexicon.core.values import KINDS, Kind


def read_kind(source: Source, data: object, place: tuple[str, ...]) -> Kind | None:
    """The kind that stands at `place`; None where it is none, which was complained of."""
    if not isinstance(data, dict):
        source.complain(place, "is not a kind of value", 'write value = { kind = "text" }')
        return None
    name = data.get("kind")
    if name is None:
        source.complain(place, "the key kind is missing", f"known: {', '.join(sorted(KINDS))}")
        return None
    if not isinstance(name, str) or name not in KINDS:
        KINDS.complete()
        source.complain((*place, "kind"), f"no such kind of value: {name!r}", meant(str(name), KINDS))
        return None
    made: Kind | None = source.typed(data, KINDS[name], place)
    if made is None:
        return None
    made = made.with_parts(lambda part, below: read_kind(source, part, (*place, *below)))
    wrong = list(made.faults())
    for key, what in wrong:
        source.complain((*place, key), what)
    return None if wrong else made
