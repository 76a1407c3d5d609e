"""`wexicon units compare`: two modules, setting by setting.

The rule: each value is the last that was read from that module; a setting of one of them only is a difference too.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import click

from wexicon.cli.options import register_option
from wexicon.cli.show import emit_json, json_option, print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, visible

if TYPE_CHECKING:
    from wexicon.records.entry import Entry


@click.command()
@click.argument("first", metavar="UNIT")
@click.argument("second", metavar="UNIT")
@click.option("--all", "whole", is_flag=True, help="Also print what is the same.")
@register_option
@json_option
def compare(first: str, second: str, whole: bool, register_at: str | None, as_json: bool) -> None:
    """Compare two UNITs setting by setting, as they were last read.

    A UNIT is its identity, or its name in a sheet. Settings outside its sheet are as they were before the first write.

    Exit status: 0 nothing differs; 1 something does; 2 no such unit.
    """
    from wexicon.work.fleet.recording import the_register

    register = the_register(register_at)
    register.flush_pending()
    found = []
    for unit in (first, second):
        history = register.history(unit)
        if not history:
            raise CallFault(
                f"the register has no unit {unit}", where=register.where, hint="wexicon units list shows all."
            )
        found.append(history)
    ends = [history[-1] for history in found]
    values = [_last_read(history) for history in found]
    settings = list(dict.fromkeys([*values[0], *values[1]]))
    rows = [(name, *(one.get(name, "") for one in values)) for name in settings]
    different = [row for row in rows if row[1] != row[2]]
    if as_json:
        emit_json([{"setting": name, "first": a, "second": b, "same": a == b} for name, a, b in rows])
    else:
        names = [one.name or one.unit for one in ends]
        heads = [visible(one) for one in (names if names[0] != names[1] else [one.unit for one in ends])]
        for one in ends:
            print_line(f"{visible(one.name)}: {visible(one.unit)}, {one.did} {one.when}, {one.verdict}")
        if shown := rows if whole else different:
            print_table(("setting", *heads, ""), [(*row, "" if row[1] == row[2] else "differs") for row in shown])
        told = f"{len(different)} of {counted(len(rows), 'setting')} {'differs' if len(different) == 1 else 'differ'}"
        print_line(told, "bold yellow" if different else "bold green")
    if different:
        raise click.exceptions.Exit(1)


def _last_read(history: list[Entry]) -> dict[str, str]:
    """The last value read of each setting, as text."""
    values: dict[str, str] = {}
    for one in history:
        prior: Mapping[str, Any] = one.result.get("prior") or {}
        values |= {name: str(shown.get("shown", "")) for name, shown in prior.items() if isinstance(shown, dict)}
        values |= {line["name"]: line["after"]["shown"] for line in one.result["settings"] if line["after"]}
    return values
