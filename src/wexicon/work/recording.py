"""What came of a unit goes into the register: which one, and what of the result.

The rule: a unit is known by its family and what it says of itself; one that did not say it is known by its port.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.work.claiming import task_of
from wexicon.work.finding import state_folder
from wexicon.work.results import UnitResult

AWAY = "the register cannot be reached; the record waits on disk, and goes in as soon as it is back"

if TYPE_CHECKING:
    from wexicon.records.register import Entry, Register


def the_register(where: str | None = None) -> Register:
    """The register at a URL or a file; the one of the environment (WEXICON_REGISTER) or the user's own where none is named."""
    from wexicon.records.register import Register

    folder = state_folder()
    where = where or os.environ.get("WEXICON_REGISTER") or str(folder / "register.db")
    return Register(where, folder / "waiting")


def done_by(register: Register, sheet: Sheet, jobs: Iterable[Job]) -> dict[str, Entry]:
    """Of these units those that the register has as made right by this very sheet and row, by their names. Raises Fault."""
    register.bring_in()
    rows = {job.name: job.row.cells if job.row else {} for job in jobs}
    found = register.latest(sheet=sheet.digest, did="provision")
    return {one.name: one for one in found if one.verdict == "conforms" and rows.get(one.name) == one.row}


def record(register: Register, job: Job, sheet: Sheet, result: UnitResult, did: str) -> str:
    """Keeps a result. Never raises: the unit is made, whether that can be recorded or not. What is wrong, or nothing."""
    from wexicon.records.register import Entry

    lexicon = job.seat.lexicon
    unit = result.identity.get(lexicon.unit) or (
        result.port if not result.identity else " ".join(result.identity.values())
    )
    entry = Entry(
        unit=f"{lexicon.about.family} {unit}",
        name=job.name,
        lexicon=lexicon.about.family,
        did=did,
        verdict=str(result.verdict),
        evidence=str(result.evidence),
        sheet=sheet.called,
        digest=sheet.digest,
        row=dict(job.row.cells) if job.row else {},
        result=msgspec.to_builtins(result, enc_hook=str),
        task=task_of(sheet, job),
    )
    try:
        return "" if register.keep(entry) else AWAY
    except (OSError, Fault) as fault:
        return f"this result could not be recorded: {fault}"
