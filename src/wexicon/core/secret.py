"""A secret as a value: it can be reckoned with and said to a module, and never shows.

The rule: what is made of a secret is a secret, and is wrapped as one.
"""

from __future__ import annotations

HIDDEN = "(secret)"


class Secret:
    """A value that never prints itself: printed by mistake, it shows only that it is secret."""

    __slots__ = ("value",)

    def __init__(self, value: object) -> None:
        self.value = value

    def __repr__(self) -> str:
        return HIDDEN

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other.value == self.value

    __hash__ = None  # type: ignore[assignment]


def plain(value: object) -> object:
    """The value itself, secret or not."""
    return value.value if isinstance(value, Secret) else value


def shown(value: object) -> object:
    """The value as it may be seen."""
    return HIDDEN if isinstance(value, Secret) else value
