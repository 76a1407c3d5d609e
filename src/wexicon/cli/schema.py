"""`wexicon schema`: the JSON Schema of what Wexicon prints and of what it reads."""

from __future__ import annotations

import click

from wexicon.cli.show import emit_json

# The kinds of `work/results/schemas.py`, which is imported only when a schema is printed.
KINDS = (
    *("result", "dialogue", "action", "hail", "rehearsal", "trial", "traffic", "sweep", "flow", "listening", "event"),
    *("settings-trial", "unit", "port", "trace", "comparison", "run", "pair", "lexicon", "sheet"),
)


@click.command(help=f"Print the JSON Schema of KIND, which is one of: {', '.join(KINDS)}.")
@click.argument("kind", type=click.Choice(KINDS), metavar="KIND")
def schema(kind: str) -> None:
    """Print the JSON Schema of what is printed with --json, of a trace, a lexicon or a sheet."""
    from wexicon.work.results.schemas import schema_of

    emit_json(schema_of(kind))
