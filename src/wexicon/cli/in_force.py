"""`-v`: which settings were in force in a call, and where each came from.

The rule: what is told is what the call used.
"""

from __future__ import annotations

import click

from wexicon import bench_settings
from wexicon.cli.show import print_note


def unset(name: str) -> str:
    """What is meant where nothing is set."""
    from wexicon.folders import state_folder, user_folder
    from wexicon.records.entry import bench_name

    return {
        "register": str(state_folder() / "register.db"),
        "lexicons": str(user_folder()),
        "fixture": "none",
        "bench": bench_name(),
        "report.title": "the sheet's title",
    }.get(name, "")


def tell_settings() -> None:
    """Says which settings were in force in the call that ends, and from where."""
    ctx = click.get_current_context()
    for param in ctx.command.params:
        name = getattr(param.default, "setting", "")
        if name and param.name:
            given = ctx.get_parameter_source(param.name) is click.core.ParameterSource.COMMANDLINE
            own = bench_settings.setting(name)
            value, source = (ctx.params.get(param.name), "the call") if given else (own.value, own.source)
            print_note(f"{name}: {value or unset(name)} (from {source})")
    for name in ("lexicons", "bench"):
        one = bench_settings.setting(name)
        if one.source != "default":
            print_note(f"{name}: {one.value} (from {one.source})")
