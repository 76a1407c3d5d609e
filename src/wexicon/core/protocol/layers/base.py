"""One layer between bytes and lines: it changes what passes it, downwards by `encode`, upwards by `feed`.

The rule: a layer knows nothing of the ones above and below it.
"""

from __future__ import annotations

from collections.abc import Sequence

from wexicon.core.protocol.framing import Piece


class LayerFault(ValueError):
    """A line cannot be encoded."""


class Layer:
    """One layer; this one changes nothing. `due` is what it has to send at once so that the answer goes on; whoever sends it
    empties it. `station` is which module is spoken to, if several share the line; None: as the lexicon says."""

    due = b""
    station: int | None = None

    def encode(self, text: str) -> str:
        """A line on its way down. Raises LayerFault."""
        return text

    def feed(self, pieces: Sequence[Piece]) -> list[Piece]:
        """Pieces on their way up."""
        return list(pieces)
