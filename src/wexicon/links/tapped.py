"""A link whose bytes are told to somebody as they pass, both ways.

The rule: nothing is changed, held back or added.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from wexicon.core.protocol.link import Link


class Tapped:
    """Another link, and who is told: `>` and the bytes that were sent, `<` and those that came."""

    def __init__(self, link: Link, told: Callable[[str, bytes], None]) -> None:
        self._link, self._told = link, told

    def __getattr__(self, name: str) -> Any:
        return getattr(self._link, name)

    def read(self, until: float) -> bytes:
        data = self._link.read(until)
        if data:
            self._told("<", data)
        return data

    def write(self, data: bytes) -> None:
        self._told(">", data)
        self._link.write(data)
