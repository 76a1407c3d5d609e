"""The stack between bytes and lines: each layer changes what passes it, downwards by `encode`, upwards by `feed`.

The rule: a layer knows nothing of the ones above and below it; the lexicon stacks them. The cutter at the bottom cuts bytes to
pieces.
"""

from __future__ import annotations

from wexicon.core.protocol.layers.base import Layer, LayerFault
from wexicon.core.protocol.layers.envelope import Envelope, Length, Mark, Numbering, Station, Sum
from wexicon.core.protocol.layers.stack import cutter, stacked
from wexicon.core.protocol.layers.texts import Checksum, Colours, Hexadecimal, Pager

__all__ = [
    "Checksum", "Colours", "Envelope", "Hexadecimal", "Layer", "LayerFault", "Length", "Mark", "Numbering", "Pager", "Station",
    "Sum", "cutter", "stacked",
]  # fmt: skip
