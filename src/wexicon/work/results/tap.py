"""The result of a tap between a host and its module.

The rule: what is counted passed through; what a fault did is counted apart.
"""

from __future__ import annotations

import msgspec

from wexicon.work.results.result import Result


class FaultCount(msgspec.Struct):
    """A fault as it was written, and how often it was done (bytes, or lines)."""

    fault: str
    done: int


class TapResult(Result):
    """Bytes that came `from_host` and `from_module`; `lines` of the host, and how many were answered with success; `undecoded`
    bytes passed faster than they could be decoded."""

    from_host: int = 0
    from_module: int = 0
    lines: int = 0
    answers: int = 0
    undecoded: int = 0
    faults: list[FaultCount] = []
