"""The results of a dialogue and of an action.

The rule: what a dialogue kept and measured is in its result as it was read; nothing secret is.
"""

from __future__ import annotations

from wexicon.work.results.measurement import Measurement
from wexicon.work.results.result import Result
from wexicon.work.results.unit import PlannedLine


class DialogueResult(Result):
    """The result of a dialogue. Times are seconds: in all, on the wire, waiting for the module, and pauses that the dialogue
    makes. `said` counts the lines that it said as part of a sheet; `parties` are those that took part, each with its port."""

    dialogue: str
    kept: dict[str, object] = {}
    notes: list[str] = []
    said: int = 0
    parties: dict[str, str] = {}
    measurements: list[Measurement] = []
    on_wire: float = 0.0
    waiting: float = 0.0
    pauses: float = 0.0


class ActionResult(Result):
    """The result of an action: `done` if its answers were right, `unproved` if a restart was not observed. `kept` is what its
    dialogue kept, `notes` what it told, `remarks` what else was noticed."""

    action: str
    port: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    plan: list[PlannedLine] = []
    kept: dict[str, object] = {}
    notes: list[str] = []
    remarks: list[str] = []
