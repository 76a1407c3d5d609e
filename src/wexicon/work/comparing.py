"""What a module should be, as another record says: a sheet, or the trace of an earlier session.

The rule: what a trace tells is read from it as from a module, by the same code.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault, ModuleFault
from wexicon.core.formats.jobs import Job, jobs_of
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Sheet
from wexicon.core.protocol.recorded import Recorded
from wexicon.core.text import meant
from wexicon.core.values import Value
from wexicon.records.trace import recorded
from wexicon.rig.standins.recording import Recording
from wexicon.work.bench import VirtualBench
from wexicon.work.module import Module


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
    if jobs[0].late:
        what = f"{', '.join(jobs[0].late)} of {jobs[0].name} is filled in by what a module says of itself"
        raise CallFault(what, where=sheet.path, hint="Only wexicon provision and verify can ask for that.")
    return jobs[0]


def values_in_trace(path: Path, lexicon: Lexicon) -> dict[str, Value]:
    """The settings as a recorded session read them last, but for secrets. Raises Fault."""
    agenda = Agenda()
    standin = Recording(agenda)
    standin.load(_latest(recorded(path)))
    standin.power(True)
    bench = VirtualBench(standin, agenda, lexicon)
    module = Module(bench.session(tuning=standin.uart.tuning), lexicon, bench.hands)
    names = [name for name, setting in lexicon.settings.items() if not setting.secret and not setting.from_link]
    found: dict[str, Value] = {}
    for name in names:
        # What the trace has no answer for is not in it.
        with suppress(ModuleFault):
            value = module.settings.read([name])[name].value
            if value is not None:
                found[name] = value
    if not found:
        hint = "Take the trace of a readout, a verify or a provision with this lexicon."
        raise CallFault(f"no setting of {lexicon.about.family} was read in it", where=str(path), hint=hint)
    return found


def _latest(told: Recorded) -> Recorded:
    """The last exchange of each line, all on one link."""
    last = {one.said: one for one in told.exchanges if one.said is not None and one.heard}
    kept = [replace(one, tuning=told.tuning) for one in last.values()]
    return replace(told, exchanges=kept)
