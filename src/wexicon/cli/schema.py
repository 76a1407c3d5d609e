"""`wexicon schema`: the JSON Schema of what Wexicon prints and of what it reads."""

from __future__ import annotations

import click

from wexicon.cli.help import Command
from wexicon.cli.show import emit_json

# The kinds of `work/results/schemas.py`, which is imported only when a schema is printed.
KINDS = (
    *("result", "dialogue", "action", "hail", "rehearsal", "trial", "traffic", "sweep", "flow", "listening", "event"),
    *("settings-trial", "unit", "port", "trace", "comparison", "run", "pair", "lexicon", "sheet", "sums", "wiring"),
    *("tap", "imported", "traces", "talk", "secret", "config", "actions", "hail-lines", "lexicons", "lexicon-page"),
    *("gaps", "rig-ports", "port-change"),
)


@click.command(
    cls=Command,
    help="Print the JSON Schema of KIND: of what --json prints, of a trace, a lexicon or a sheet.\n\nExamples:\n"
    f"  wexicon schema result\n  wexicon schema lexicon\n\nKIND is one of: {', '.join(KINDS)}.",
)
@click.argument("kind", type=click.Choice(KINDS), metavar="KIND")
def schema(kind: str) -> None:
    from wexicon.work.results.schemas import schema_of

    emit_json(schema_of(kind))
