"""`wexicon restore`: a module as it was before it was provisioned.

The rule: only the very module that the register means is written to, and what could not be restored is named.
"""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import Working, gathered, lexicon_option, prove_option, register_option
from wexicon.cli.printing import print_unit, tell_recorded
from wexicon.cli.show import emit_json, ending, print_note, print_warning
from wexicon.core.text import counted, visible

if TYPE_CHECKING:
    from wexicon.work.fleet.recording import Earlier


class RestoreCall(msgspec.Struct):
    """The options of `restore`."""

    unit: str
    port: str
    since: datetime | None
    lexicon_name: str | None
    prove: str
    plan: bool
    register_at: str | None
    how: Working


@click.command(cls=Command)
@click.argument("unit")
@click.argument("port")
@click.option(
    "--since",
    type=click.DateTime(["%Y-%m-%d"]),
    help="Restore what was before the first run on this day (UTC) or later.  [before the last run]",
)
@lexicon_option
@prove_option("auto")
@click.option("--plan", is_flag=True, help="Dry run: read the module, print the lines to say, write nothing.")
@register_option
@gathered(RestoreCall)
def restore(call: RestoreCall) -> None:
    """Write to UNIT on PORT the settings that it had before it was provisioned, and read them back.

    Examples:
      wexicon restore "mast M2" /dev/ttyUSB0
      wexicon restore L9-00417 /dev/ttyUSB0 --plan

    UNIT is its identity, or its name in a sheet. The settings are those that were read before the first write; secrets are
    not among them. A module that is not UNIT is not written to.

    Exit status: as of wexicon provision.
    """
    from wexicon import api
    from wexicon.work.fleet.recording import earlier_state, the_register

    register = the_register(call.register_at)
    register.flush_pending()
    since = call.since.date() if call.since else None
    earlier = earlier_state(register, call.unit, since, call.lexicon_name or "")
    _tell(earlier)
    order = api.SheetOrder(prove=api.Prove(call.prove), plan=call.plan, restores=earlier.entry.unit)
    jobs = api.chosen_jobs(earlier.sheet, None)
    run = api.SheetRun(earlier.sheet, jobs, api.places_of([call.port]), order, call.register_at)
    with call.how.working(jobs[0].name) as setup:
        run.check(setup)
        (result,) = run.run(setup)
    tell_recorded(run.note)
    with ending(result.status):
        emit_json(result) if call.how.as_json else print_unit(result)


def _tell(earlier: Earlier) -> None:
    """Says which state is restored, and what is missing in it."""
    entry, count = earlier.entry, len(next(iter(earlier.sheet.seats.values())).wanted)
    print_note(f"{visible(entry.unit)} as it was before its provisioning {entry.when}: {counted(count, 'setting')}")
    if earlier.left_out:
        told = "; ".join(f"{visible(name)} ({visible(why)})" for name, why in earlier.left_out.items())
        print_warning(f"not restored: {told}", "magenta")
