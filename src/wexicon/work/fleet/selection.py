"""Which units of a sheet a call means: by their seat, their row, or both.

The rule: what is named and is not there is a fault with what was probably meant; nothing is chosen by chance.
"""

from __future__ import annotations

from wexicon.core.faults import CallFault
from wexicon.core.formats.jobs import Job, jobs_of
from wexicon.core.formats.sheet import Sheet
from wexicon.core.text import meant


def chosen_jobs(sheet: Sheet, seat: str | None, row: str | None = None) -> list[Job]:
    """The units of a sheet that were named by their seat, their row, or both. Raises Fault."""
    jobs = jobs_of(sheet)
    if seat is not None:
        if seat not in sheet.seats:
            raise CallFault(f"the sheet has no seat {seat}", where=sheet.path, hint=meant(seat, sheet.seats))
        jobs = [job for job in jobs if job.seat.name == seat]
    if row is not None:
        keys = [job.row.key for job in jobs if job.row]
        if row not in keys:
            raise CallFault(f"the table has no row {row}", where=sheet.path, hint=meant(row, keys))
        jobs = [job for job in jobs if job.row and job.row.key == row]
    return jobs


def the_job(sheet: Sheet, seat: str | None, row: str | None = None) -> Job:
    """The one unit of a sheet that was named, or its only one. Raises CallFault."""
    jobs = chosen_jobs(sheet, seat, row)
    if len(jobs) > 1:
        seats = list(dict.fromkeys(job.seat.name for job in jobs))
        hint = f"say which: --seat {' or '.join(seats)}" if len(seats) > 1 else "say which: --row KEY"
        raise CallFault("the sheet has several units", where=sheet.path, hint=hint)
    if jobs[0].deferred:
        what = f"{', '.join(jobs[0].deferred)} of {jobs[0].name} is filled in by what a module says of itself"
        raise CallFault(what, where=sheet.path, hint="Only wexicon provision and verify can ask for that.")
    return jobs[0]
