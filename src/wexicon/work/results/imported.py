"""The result of `wexicon trace import`.

The rule: it counts what was in the capture, right or wrong.
"""

from __future__ import annotations

import msgspec


class Imported(msgspec.Struct):
    """What became of a capture: the trace, bytes of each side, lines that the host said, characters whose frame was wrong;
    rate and frame of each line as measured, and whether its levels were inverted."""

    trace: str
    from_host: int
    from_module: int
    lines: int
    wrong: int
    tunings: dict[str, str] = {}
