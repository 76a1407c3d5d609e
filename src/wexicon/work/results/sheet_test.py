"""The result of one test of a sheet.

The rule: a test has a verdict of its own; the verdict on its unit's settings is separate.
"""

from __future__ import annotations

from wexicon.work.results.measurement import Measurement
from wexicon.work.results.result import Result


class SheetTestResult(Result):
    """`parties` are the units that took part, by the names that the dialogue gives them; `wrote` is whether it may have changed
    settings, which were put back and read again; `kept` and `notes` come from its dialogue."""

    name: str
    parties: dict[str, str] = {}
    measurements: list[Measurement] = []
    kept: dict[str, object] = {}
    notes: list[str] = []
    wrote: bool = False
