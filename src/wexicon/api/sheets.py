"""Units as a sheet has them: provisioned, or compared.

The rule: each result is recorded in the register.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wexicon.core.formats.sheet import Sheet
from wexicon.work.contact.catalog import (
    find_sheet,
)
from wexicon.work.contact.ports import places_of
from wexicon.work.contact.secret_sources import secrets_for
from wexicon.work.contact.sessions import Setup
from wexicon.work.fleet.selection import chosen_jobs
from wexicon.work.fleet.sheet_run import Report, SheetOrder, SheetRun
from wexicon.work.results.unit import UnitResult
from wexicon.work.results.verdicts import Prove

if TYPE_CHECKING:
    pass


def provision(
    sheet: Sheet | Path,
    ports: Sequence[str],
    order: SheetOrder | None = None,
    setup: Setup | None = None,
    *,
    report: Report | None = None,
    register: str | None = None,
) -> list[UnitResult]:
    """Provisions the units of a sheet on ports (`PORT`, `SEAT=PORT` or a pattern), each result recorded in the register.

    for unit in wexicon.provision(Path("radio-pair.toml"), ["relay=/dev/ttyUSB0", "mast=/dev/ttyUSB1"]):
        print(unit.unit, unit.verdict, unit.evidence)
    """
    setup = setup or Setup()
    if isinstance(sheet, Path):
        sheet = find_sheet(sheet, None, secrets_for(sheet.parent, None))
    made = SheetRun(sheet, chosen_jobs(sheet, None), places_of(ports), order or SheetOrder(), register)
    made.check(setup)
    return made.run(setup, report)


def verify(
    sheet: Sheet | Path,
    ports: Sequence[str],
    setup: Setup | None = None,
    *,
    prove: Prove = Prove.READING,
    report: Report | None = None,
    register: str | None = None,
) -> list[UnitResult]:
    """Compares the modules on ports with a sheet; writes nothing.

    for unit in wexicon.verify(Path("radio-pair.toml"), ["relay=/dev/ttyUSB0", "mast=/dev/ttyUSB1"]):
        print(unit.unit, unit.verdict)
    """
    return provision(sheet, ports, SheetOrder(write=False, prove=prove), setup, report=report, register=register)
