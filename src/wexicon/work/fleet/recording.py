"""Writes what came of a unit into the register; and makes from the register the sheet that brings a module's earlier settings
back.

The rule: a unit is known by its family and what it says of itself; one that did not say it is known by its port. A value that
is restored was read from this very module before the first write; secrets, and what could not be read then, are left out and
named.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from datetime import date
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from wexicon.core.faults import CallFault, Complaint, Fault
from wexicon.core.formats.jobs import Job, jobs_of
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat, Sheet
from wexicon.core.formats.wanted import Fixed
from wexicon.core.results.result import Outcome, Verdict
from wexicon.core.results.unit import UnitResult
from wexicon.core.text import visible
from wexicon.core.values import Value, ValueFault
from wexicon.files import state_folder
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.sealed import SecretDigests
from wexicon.settings_file import value_of
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.fleet.claims import task_of
from wexicon.work.module.module import exchangeable

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon, Setting
    from wexicon.records.register import Register


# The digest of a row's secret cells; no setting has this name.
CELLS = "cells of the row"
AWAY = "the register cannot be reached; record queued on disk until it returns"


def the_register(where: str | None = None) -> Register:
    """The register at a URL or a file; where none is named, the one of the bench's settings, or the user's own."""
    from wexicon.records.register import Register

    folder = state_folder()
    where = where or value_of("register") or str(folder / "register.db")
    return Register(where, folder / "waiting")


def done_by(register: Register, sheet: Sheet, jobs: Iterable[Job]) -> dict[str, Entry]:
    """Of these units those that the register has as made right by this very sheet and row, by their names. Raises Fault."""
    register.flush_pending()
    asked = {job.name: job for job in jobs}
    # A test may have changed what was right when it was recorded.
    unfinished = {work.unit for work in register.all_unfinished()}

    def is_done(one: Entry) -> bool:
        job = asked.get(one.name)
        if (
            job is None
            or one.did != "provision"
            or one.verdict != "conforms"
            or one.row != job.recorded_row
            or one.unit in unfinished
        ):
            return False
        if any(test.verdict is Verdict.FAILED for test in one.result.tests):
            return False
        # With another bench's key the digests of secret cells differ too: then the unit is provisioned again.
        return _digests(job, sheet).get(CELLS) == one.result.digests.get(CELLS)

    return {one.name: one for one in register.latest(sheet=sheet.digest, wrote=True) if is_done(one)}


class UsedBefore(NamedTuple):
    """What the register says of values that must be different: complaints, and settings that could not be compared."""

    complaints: list[Complaint]
    not_compared: set[str]


def used_before(register: Register, sheet: Sheet, jobs: Iterable[Job]) -> UsedBefore:
    """Values that must be different in each unit of the sheet, and that another unit of a sheet of this title has by the
    register: one that is not among these. Secrets are compared by their digests. Raises Fault."""
    jobs, found = list(jobs), UsedBefore([], set())
    if not sheet.agree.different or not sheet.has_fixed_units:
        return found
    names = {job.name for job in jobs_of(sheet)}
    digests = SecretDigests(state_folder())
    hidden = {name for job in jobs for name in sheet.agree.different if _is_secret(job, name)}
    used: dict[tuple[str, str], Entry] = {}
    for one in register.latest(sheet=sheet.called, wrote=True):
        if (
            one.did == "provision"
            and one.sheet == sheet.called
            and one.name not in names
            and one.verdict in ("conforms", "unproved")
        ):
            for line in one.result.settings:
                if line.name in sheet.agree.different and line.after:
                    used[line.name, line.after.shown] = one
            known = one.result.digests
            for name in hidden:
                if known.get("key") == digests.key_name and name in known:
                    used[name, known[name]] = one
                else:
                    found.not_compared.add(name)
    for job in jobs:
        for name in sheet.agree.different:
            setting = _setting(job, name)
            if setting is None or name not in job.wanted:
                continue
            value = job.wanted[name]
            shown = "" if setting.secret else setting.show(value)
            other = used.get((name, digests.of(sheet.called, name, value) if setting.secret else shown))
            if other:
                whose = f"{other.name}, {other.unit}, {other.when}"
                what = f"{name} {visible(shown)} of {job.name}".replace("  ", " ") + f" is already used by {whose}"
                found.complaints.append(Complaint(what, "agree.different", hint="Choose another, or use --again."))
    return found


def _setting(job: Job, name: str) -> Setting | None:
    return job.seat.lexicon.settings.get(name)


def _is_secret(job: Job, name: str) -> bool:
    setting = _setting(job, name)
    return setting is not None and setting.secret


def _digests(job: Job, sheet: Sheet) -> dict[str, str]:
    """Digests of the secrets that must be different in each unit, and of the secret cells of its row."""
    names = [
        name for name in sheet.agree.different if (one := _setting(job, name)) and one.secret and name in job.wanted
    ]
    cells = [job.row.cells.get(name, "") for name in job.seat.secret_columns] if job.row else []
    if not names and not cells:
        return {}
    digests = SecretDigests(state_folder())
    made = {name: digests.of(sheet.called, name, job.wanted[name]) for name in names}
    if cells:
        made[CELLS] = digests.of(sheet.called, job.name, cells)
    return {"key": digests.key_name, **made}


def record(
    register: Register, job: Job, sheet: Sheet, result: UnitResult, did: str, before: str = ""
) -> tuple[str, str]:
    """Keeps a result, in the place of the record `before` if there is one; adds to it what is in the module and was another one
    by the register. Never raises: the unit is made, whether that can be recorded or not. The record's id, and what is wrong or
    nothing."""
    with contextlib.suppress(Fault):
        result.remarks += exchanged(register, job.seat.lexicon, result)
    entry = Entry(
        unit=job.seat.lexicon.unit_of(result.identity, result.port),
        name=job.name,
        lexicon=job.seat.lexicon.about.family,
        did=did,
        verdict=str(result.verdict),
        evidence=str(result.evidence),
        sheet=sheet.called,
        digest=sheet.digest,
        row=job.recorded_row,
        result=_recorded(result, _digests(job, sheet)),
        task=task_of(sheet, job),
        replaces=before,
    )
    try:
        return entry.id, "" if register.keep(entry) else AWAY
    except (OSError, Fault) as fault:
        return entry.id, f"this result could not be recorded: {fault}"


def _recorded(result: UnitResult, digests: dict[str, str]) -> RecordedResult:
    """A result as it is recorded: what dialogues kept and JSON does not have is its text."""
    made = RecordedResult(**msgspec.structs.asdict(result), digests=digests)
    made.kept = msgspec.to_builtins(result.kept, enc_hook=str)
    made.tests = [
        msgspec.structs.replace(one, kept=msgspec.to_builtins(one.kept, enc_hook=str)) for one in result.tests
    ]
    return made


def exchanged(register: Register, lexicon: Lexicon, result: UnitResult) -> list[str]:
    """What is in a module and was another one by its last record, such as its SIM. Raises Fault."""
    unit, names = lexicon.unit_of(result.identity), exchangeable(lexicon)
    if not unit or not names:
        return []
    left = register.last_provisioned(unit=unit)
    before = left.result.identity if left else {}
    return [
        f"the {name} was exchanged since {left.when}: {visible(before[name])} then, {visible(result.identity[name])} now"
        for name in names
        if left and before.get(name) and result.identity.get(name) and before[name] != result.identity[name]
    ]


def compare_with_left(register: Register, job: Job, sheet: Sheet, result: UnitResult) -> None:
    """Adds to what was read of a module what the register says that it was left as: what is no longer so, and what is known of
    settings that cannot be read. Where the register is away, that is reported; of a module that does not say
    who it is nothing can be."""
    unit = job.seat.lexicon.unit_of(result.identity)
    if not result.settings or not unit:
        return
    try:
        left = register.last_provisioned(unit=unit)
    except Fault as fault:
        result.remarks.append(f"{fault.what}; its last recorded state is not known")
        return
    if left is None:
        result.remarks.append("the register has no finished provisioning of this module")
        return
    if (left.name, left.sheet) != (job.name, sheet.called):
        result.remarks.append(f"the register has this module as {left.name} of “{left.sheet}”, {left.when}")
    elif left.digest != sheet.digest:
        result.remarks.append(f"the sheet was changed since this module was made by it, {left.when}")
    then = {line.name: line for line in left.result.settings}
    now = {line.name: line for line in result.settings}
    gone = [
        f"{name}: {visible(line.after.shown)} then, {visible(read.shown)} now"
        for name, line in then.items()
        if line.after and name in now and (read := now[name].after) and line.after.shown != read.shown
    ]
    if gone:
        result.remarks.append(f"changed since {left.when}: {'; '.join(gone)}")
    for name, line in now.items():
        if line.outcome is Outcome.UNVERIFIED and name in then and then[name].outcome is Outcome.ACCEPTED:
            line.note = f"the register: acknowledged {left.when}"


class Earlier(msgspec.Struct, frozen=True):
    """The state before the run of a record: as a sheet of one seat, and the settings that are not in it, each with why."""

    entry: Entry
    sheet: Sheet
    left_out: dict[str, str]


def earlier_state(register: Register, unit: str, since: date | None = None, lexicon: str = "") -> Earlier:
    """The state of a unit before the last run that provisioned it, or before the first one on this day (UTC) or after it.
    Raises Fault."""
    history = register.history(unit)
    if not history:
        raise CallFault(f"the register has no unit {unit}", where=register.where, hint="wexicon units list shows all.")
    wrote = [one for one in history if one.did == "provision" and one.result.prior]
    if since:
        wrote = [one for one in wrote if one.at >= since.isoformat()][:1]
    if not wrote:
        what = f"the register has no earlier settings of {unit}" + (f" from {since} on" if since else "")
        raise CallFault(what, where=register.where, hint="They are recorded by a provisioning that writes something.")
    entry = wrote[-1]
    found = find_lexicon(lexicon or entry.lexicon)
    wanted, left_out = _values(found, entry)
    if not wanted:
        raise CallFault(f"none of the earlier settings of {unit} can be written", where=register.where)
    name = entry.name or entry.unit
    seat = Seat(name, found, {key: Fixed(value) for key, value in wanted.items()})
    return Earlier(entry, Sheet(f"restore {name}", entry.sheet, {name: seat}, entry.digest), left_out)


def _values(lexicon: Lexicon, entry: Entry) -> tuple[dict[str, Value], dict[str, str]]:
    prior = entry.result.prior
    wanted: dict[str, Value] = {}
    left_out = {name: "not in this lexicon" for name in prior if name not in lexicon.settings}
    for name, setting in lexicon.settings.items():
        if not setting.writable or setting.volatile:
            continue
        if name not in prior:
            left_out[name] = "secret" if setting.secret else "was not read"
            continue
        try:
            wanted[name] = prior[name].value_for(setting)
        except ValueFault as fault:
            left_out[name] = f"{prior[name].shown} {fault.why}"
    return wanted, left_out
