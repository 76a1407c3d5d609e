"""`wexicon config`: the settings that are in force and where each comes from; `wexicon schema`: the JSON Schema of what
Wexicon prints and reads.

The rule: nothing is shown that is not in force.
"""

from __future__ import annotations

from pathlib import Path

import click

from wexicon import settings_file
from wexicon.cli.help import Command
from wexicon.cli.here import unset
from wexicon.cli.show import emit_json, force_option, json_option, print_line, print_note, print_table
from wexicon.files import config_folder

STARTER = """\
# Settings of this project: Wexicon finds the file here and in all folders below. `wexicon config` shows what is in force.
format = 1
# register = "units.db"              # a file, or "postgresql://HOST/DATABASE" for several benches
# lexicons = ["lexicons"]            # folders of your own lexicons
# fixture  = "jig.toml"              # what drives keys and power
# operator = "person"                # who operates keys and power otherwise: person, rig, nobody
# patience = "60s"                   # how long that is waited for
# prove    = "auto"                  # evidence required: auto, power, restart, reading, twice
# bench    = "fit-out-1"             # what this bench is called in a shared register

[ports]
# relay = "/dev/ttyUSB0"

[report]
# title = "Marrow Estuary, spring fit-out"
"""


@click.command(cls=Command)
@click.option("--new", is_flag=True, help="Write a wexicon.toml to begin with, here.")
@force_option
@json_option
def config(new: bool, force: bool, as_json: bool) -> None:
    """Show the settings that are in force here, and where each comes from.

    Examples:
      wexicon config
      wexicon config --new

    An option of a call goes before a variable WEXICON_NAME, that before the wexicon.toml in this folder or above it, that
    before the one in your own folder.
    """
    from wexicon.files import write_new

    if new:
        write_new(Path(settings_file.FILE), STARTER.encode(), force=force)
        print_line(f"wrote {settings_file.FILE}; every line of it is optional")
        return
    found = [settings_file.setting(name) for name in settings_file.DEFAULTS]
    rows = [(one.name, one.value or unset(one.name), one.source) for one in found]
    rows += [(f"ports.{name}", port, source) for name, (port, source) in settings_file.named_ports().items()]
    if as_json:
        from wexicon.core.results.listed import SettingInForce

        emit_json([SettingInForce(*row) for row in rows])
        return
    print_table(("setting", "value", "from"), rows)
    own = config_folder() / settings_file.FILE
    if not any(path == own for path in settings_file.files()):
        print_note(f"Your own file would be {own}.")


# The kinds of `records/schemas.py`, which is imported only when a schema is printed.
KINDS = (
    "result", "dialogue", "action", "hail", "rehearsal", "trial", "traffic", "sweep", "flow", "listening", "event",
    "settings-trial", "unit", "port", "trace", "comparison", "run", "pair", "lexicon", "sheet", "calculations",
    "wiring", "tap", "imported", "traces", "talk", "talk-end", "secret", "config", "actions", "hail-lines", "lexicons",
    "lexicon-page", "gaps", "rig-ports", "port-change",
)  # fmt: skip


@click.command(
    cls=Command,
    help="Print the JSON Schema of KIND: of what --json prints, of a trace, a lexicon or a sheet.\n\nExamples:\n"
    f"  wexicon schema result\n  wexicon schema lexicon\n\nKIND is one of: {', '.join(KINDS)}.",
)
@click.argument("kind", type=click.Choice(KINDS), metavar="KIND")
def schema(kind: str) -> None:
    from wexicon.records.schemas import schema_of

    emit_json(schema_of(kind))
