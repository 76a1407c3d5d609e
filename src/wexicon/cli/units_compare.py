"""`wexicon units compare`: two modules, setting by setting.

The rule: each value is the last that was read from that module; a setting of one of them only is a difference too.
"""

from __future__ import annotations

import click

from wexicon.cli.help import Command
from wexicon.cli.options import register_option
from wexicon.cli.show import emit_json, json_option, print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, visible


@click.command(cls=Command)
@click.argument("first", metavar="UNIT")
@click.argument("second", metavar="UNIT")
@click.option("--all", "whole", is_flag=True, help="Also print what is the same.")
@register_option
@json_option
def compare(first: str, second: str, whole: bool, register_at: str | None, as_json: bool) -> None:
    """Compare two UNITs setting by setting, as they were last read.

    Examples:
      wexicon units compare "mast M1" "mast M2"
      wexicon units compare L9-00417 L9-00418 --all

    A UNIT is its identity, or its name in a sheet. Settings outside its sheet are as they were before the first write.

    Exit status: 0 nothing differs; 1 something does; 2 no such unit.
    """
    from wexicon.records.settings_compare import compare_settings
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
    pairs = compare_settings(*found)
    different = [one for one in pairs if not one.same]
    if as_json:
        emit_json(pairs)
    else:
        names = [one.name or one.unit for one in ends]
        heads = [visible(one) for one in (names if names[0] != names[1] else [one.unit for one in ends])]
        for one in ends:
            print_line(f"{visible(one.name)}: {visible(one.unit)}, {one.did} {one.when}, {one.verdict}")
        if shown := pairs if whole else different:
            rows = [(one.setting, one.first, one.second, "" if one.same else "differs") for one in shown]
            print_table(("setting", *heads, ""), rows)
        told = f"{len(different)} of {counted(len(pairs), 'setting')} {'differs' if len(different) == 1 else 'differ'}"
        print_line(told, "bold magenta" if different else "green")
    if different:
        raise click.exceptions.Exit(1)
