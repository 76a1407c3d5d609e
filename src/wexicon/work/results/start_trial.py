"""The result of trying what a restart of a module does, and how long its save takes.

The rule: each field was observed on this module; what could not be tried is null.
"""

from __future__ import annotations

from wexicon.work.results.result import Result


class StartTrial(Result):
    """`signs` are what showed that it started, `back_after` how long it took to answer again (seconds); `setting` is the one
    that was changed for it; `reloads` whether its unsaved change was gone; `saves_within` how long after its acknowledgement
    the save was done (seconds), of `longest` that was tried; `restored` whether the setting has its first value again, saved.
    `lines` are for the lexicon."""

    identity: dict[str, str] = {}
    signs: list[str] = []
    back_after: float | None = None
    setting: str = ""
    reloads: bool | None = None
    saves_within: float | None = None
    longest: float = 0.0
    restored: bool | None = None
    lines: list[str] = []
    remarks: list[str] = []
