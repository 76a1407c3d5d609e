"""Where the secrets of a sheet come from: the environment, a file, a prompt, or drawn for each unit.

The rule: a secret is never in the sheet itself. `generate = "6 digits"` says how many of which characters are drawn.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from wexicon.core.text import meant

FETCHED = ("env", "file", "prompt")
GENERATED = "generate"
ELSEWHERE = (
    'say where it comes from: {name} = {{ env = "NAME" }}, {{ file = "NAME" }}, {{ prompt = "..." }} '
    'or {{ generate = "6 digits" }}'
)
_TOLD = {
    "env": "from the environment variable {}",
    "file": "from the file {}",
    "prompt": "asked for: {}",
    GENERATED: "{}, drawn for each unit",
}
# The characters are for people who copy them: none that looks like another.
ALPHABETS = {
    "digits": "0123456789",
    "hex": "0123456789ABCDEF",
    "characters": "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789",
}
# How many characters a generated secret has, at least and at most.
LEAST, MOST = 4, 128


class Generated(msgspec.Struct, frozen=True):
    """A secret that is drawn for each unit: `count` characters of a `kind` of ALPHABETS."""

    count: int
    kind: str

    def draw(self, choose: Callable[[str], str]) -> str:
        """A new secret; `choose` draws one character of several, each with the same chance."""
        return "".join(choose(ALPHABETS[self.kind]) for _ in range(self.count))


def generated(text: object) -> Generated:
    """What `generate` says, such as `6 digits`. Raises ValueError."""
    count, _, kind = str(text).partition(" ")
    if not count.isdecimal() or not LEAST <= int(count[:9]) <= MOST:
        raise ValueError(f"{text!r} does not begin with a number from {LEAST} to {MOST}, as in 6 digits")
    if kind not in ALPHABETS:
        raise ValueError(f"{kind!r} cannot be generated; {meant(kind, ALPHABETS)}")
    return Generated(int(count), kind)


def source_of(given: object) -> tuple[str, str] | None:
    """The kind and the text of a source, if a value of a sheet is one; such a value is always a secret."""
    if isinstance(given, dict) and len(given) == 1:
        ((kind, text),) = given.items()
        if kind in (*FETCHED, GENERATED):
            return kind, str(text)
    return None


def told(kind: str, text: str) -> str:
    """A source in words."""
    return _TOLD[kind].format(text)
