"""The words of every result: outcome of a setting, evidence and verdict of a unit, and the exit status of each verdict.

The rule: a verdict has one exit status, the same for every command.
"""

from __future__ import annotations

from enum import StrEnum


class Outcome(StrEnum):
    """The outcome of a setting: `unchanged` (read, was right), `changed` (written, reads back right), `accepted` (written,
    acknowledged, cannot be read), `unverified` (cannot be read, was not written), `refused`, `differs`, `not read` (a
    failure or a stop came first), `read` (no value was wanted), `to be written` (a plan: nothing was written yet)."""

    UNCHANGED = "unchanged"
    CHANGED = "changed"
    ACCEPTED = "accepted"
    UNVERIFIED = "unverified"
    REFUSED = "refused"
    DIFFERS = "differs"
    NOT_READ = "not read"
    READ = "read"
    TO_WRITE = "to be written"


class Evidence(StrEnum):
    """The strongest evidence that was observed in this run for the final reading; see docs/proof.md. After a `warm-restart` it
    is not known whether the module had loaded the saved values, or kept those in its working memory."""

    NONE = ""
    READING = "reading"
    WARM = "warm-restart"
    RESTART = "restart"
    POWER = "power-cycle"

    def at_least(self, other: Evidence) -> bool:
        """Whether this evidence is as strong as another."""
        return _STRENGTH.index(self) >= _STRENGTH.index(other)


_STRENGTH = list(Evidence)


class Prove(StrEnum):
    """The evidence that is required; `auto` is the strongest that needs no operator action beyond attention; `twice`, the same
    after a second start too."""

    AUTO = "auto"
    POWER = "power"
    RESTART = "restart"
    READING = "reading"
    TWICE = "twice"

    @property
    def requires(self) -> Evidence:
        """The weakest evidence that is enough."""
        return {Prove.POWER: Evidence.POWER, Prove.RESTART: Evidence.WARM, Prove.TWICE: Evidence.WARM}.get(
            self, Evidence.READING
        )

    @property
    def starts(self) -> int:
        """How many starts must be observed, with a reading after each."""
        return 2 if self is Prove.TWICE else 0


class Verdict(StrEnum):
    """The verdict of a result. Of a unit: `conforms` (every wanted setting is unchanged or changed), `unproved` (nothing is
    wrong, but a setting is accepted or unverified, or the evidence is weaker than required), `failed`, `stopped`,
    `skipped`, `read` (no values were wanted and all were read), `planned` (a dry run). Of an action: `done`. Of a dialogue,
    of traffic and of a measurement: `passed`."""

    CONFORMS = "conforms"
    UNPROVED = "unproved"
    FAILED = "failed"
    STOPPED = "stopped"
    SKIPPED = "skipped"
    READ = "read"
    PLANNED = "planned"
    DONE = "done"
    PASSED = "passed"


# The exit status of a verdict; of a failed or skipped one its failure has it.
STATUS = {
    Verdict.CONFORMS: 0,
    Verdict.UNPROVED: 4,
    Verdict.FAILED: 1,
    Verdict.STOPPED: 130,
    Verdict.SKIPPED: 0,
    Verdict.READ: 0,
    Verdict.PLANNED: 0,
    Verdict.DONE: 0,
    Verdict.PASSED: 0,
}
EVIDENCE_TEXT = {
    Evidence.POWER: "read back after a power cycle",
    Evidence.RESTART: "read back after a restart",
    Evidence.WARM: "kept over a restart; power not cycled",
    Evidence.READING: "read without a restart; persistence not tested",
}
