"""What came of a unit goes into the register: which one, and what of the result.

The rule: a unit is known by its family and what it says of itself; one that did not say it is known by its port.
"""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.work.finding import state_folder
from wexicon.work.results import UnitResult

AWAY = "the register cannot be reached; the record waits on disk, and goes in as soon as it is back"

if TYPE_CHECKING:
    from wexicon.records.register import Register


def the_register(where: str | None = None) -> Register:
    """The register at a URL or a file; the one of the environment (WEXICON_REGISTER) or the user's own where none is named."""
    from wexicon.records.register import Register

    folder = state_folder()
    where = where or os.environ.get("WEXICON_REGISTER") or str(folder / "register.db")
    return Register(where, folder / "waiting")


def done_by(register: Register, sheet: Sheet) -> set[str]:
    """The names of the units that the register has as made right by this very sheet. Raises Fault."""
    register.bring_in()
    found = register.latest(sheet=sheet.digest, did="provision")
    return {one.name for one in found if one.verdict == "conforms"}


def made_as(register: Register, sheet: Sheet, job: Job, unit: str) -> str:
    """As what else a module was made by a sheet of this title; empty where the register has nothing of it, or is away."""
    try:
        told = [one for one in register.history(unit) if one.did == "provision" and one.verdict == "conforms"]
    except Fault:
        return ""
    if not told or (told[-1].name == job.name and told[-1].sheet == (sheet.title or sheet.path)):
        return ""
    last = told[-1]
    return f"{last.name} of “{last.sheet}”, on {last.at[:16].replace('T', ' ')} UTC at {last.bench}"


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
        sheet=sheet.title or sheet.path,
        digest=sheet.digest,
        row=dict(job.row.cells) if job.row else {},
        result=msgspec.to_builtins(result, enc_hook=str),
    )
    try:
        return "" if register.keep(entry) else AWAY
    except (OSError, Fault) as fault:
        return f"this result could not be recorded: {fault}"
