"""`wexicon report`: one page from the register and the traces, as HTML or PDF.

The rule: the page is whole by itself; the terminal says what it does not have.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import click

from wexicon.cli.help import Command
from wexicon.cli.options import register_option
from wexicon.cli.show import force_option, output_option, print_line
from wexicon.core.faults import CallFault
from wexicon.core.text import counted
from wexicon.files import OVERWRITE, needs, write_new
from wexicon.settings_file import value_of
from wexicon.version import __version__


@click.command(cls=Command)
@output_option("The report: .html or .pdf.")
@click.option("--sheet", default="", help="Only units of this sheet, by its title or digest.")
@click.option(
    "--unit", default="", help="Only this unit, by its identity or its name in a sheet, with its whole history."
)
@click.option("--since", type=click.DateTime(["%Y-%m-%d"]), help="Only records from this day on (UTC).")
@click.option("--title", default="", help="The heading.  [the sheet's title]")
@register_option
@force_option
def report(
    output: Path, sheet: str, unit: str, since: datetime | None, title: str, register_at: str | None, force: bool
) -> None:
    """Write a report: the units with before, wanted, after, evidence, tests and measurements; figures;
    in HTML the lines sent and received too. The page needs no network. A PDF needs Chromium or a browser like it.

    Examples:
      wexicon report -o fit-out.html
      wexicon report -o masts.pdf --sheet masts --since 2026-11-01
    """
    from wexicon.cli.trace_lines import record_line
    from wexicon.records.report import browser, printed, report_page
    from wexicon.work.contact.kept_traces import masked_records
    from wexicon.work.fleet.recording import the_register

    kind = output.suffix.lower()
    if kind not in (".html", ".pdf"):
        raise CallFault("is neither .html nor .pdf", where=str(output))
    if output.exists() and not force:
        raise CallFault("already exists; nothing was written", where=str(output), hint=OVERWRITE)
    needs("jinja2", "matplotlib")
    program = browser() if kind == ".pdf" else ""
    register = the_register(register_at)
    register.flush_pending()
    # What was done says more than what was compared later.
    found = register.history(unit) if unit else list(register.latest(sheet=sheet, wrote=True))
    if not (found or unit):
        found = list(register.latest(sheet=sheet))
    found = [one for one in found if not since or one.at >= since.date().isoformat()]
    if not found:
        raise CallFault("the register has no such units", where=register.where, hint="wexicon units list shows all.")
    found.sort(key=lambda one: (one.sheet, one.name, one.at))
    heading = title or value_of("report.title") or next((one.sheet for one in found if one.sheet), "") or "Units"
    made = f"written {datetime.now(UTC):%Y-%m-%d %H:%M} UTC by Wexicon {__version__} from {Path(register.where).name}"

    def told(trace: Path, most: int) -> Iterator[str]:
        return (record_line(one, coloured=False) for one in masked_records(trace, most=most))

    text = report_page(heading, made, found, told)
    data = printed(program, text) if program else text.encode()
    write_new(output, data, force=force)
    print_line(f"wrote {output}: {counted(len(found), 'unit')}, {len(data) / 1024:.0f} KB")
