"""The result of trying a lexicon's settings on a module: what was read, written back, and tried at the ends of each range.

The rule: what fits was observed; what could not be tried says why.
"""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

import msgspec

from wexicon.version import __version__
from wexicon.work.results.result import Result


class Fits(StrEnum):
    """Whether the module did what the lexicon says: `fits`, `does not fit`, `not tried`."""

    YES = "fits"
    NO = "does not fit"
    NOT_TRIED = "not tried"


class Trial(msgspec.Struct):
    """One thing that was tried of a setting: `read`, `write back`, `lowest`, `highest`, `below`, `above`, `longest`, `too
    long`; `note` says what came instead, or why it was not tried."""

    setting: str
    what: str
    fits: Fits
    note: str = ""


class WriteTrial(Result):
    """`digest` is the SHA-256 of the lexicon, `firmware` the module's; `beyond` whether values outside of the ranges were
    tried; `restored` whether all settings are as they were."""

    identity: dict[str, str] = {}
    firmware: str = ""
    digest: str = ""
    beyond: bool = False
    restored: bool | None = None
    trials: list[Trial] = []
    remarks: list[str] = []
    tried: datetime | None = None
    wexicon: str = __version__

    def count(self, fits: Fits) -> int:
        """How many came out so."""
        return sum(one.fits is fits for one in self.trials)


def told_counts(result: WriteTrial) -> list[str]:
    """How many fit, do not fit, and were not tried, in words."""
    words = {Fits.YES: "fit", Fits.NO: "do not fit", Fits.NOT_TRIED: "not tried"}
    return [f"{result.count(one)} {word}" for one, word in words.items() if result.count(one)]
