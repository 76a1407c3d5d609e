"""`wexicon schema`: the JSON Schema of what Wexicon prints and of what it reads."""

from __future__ import annotations

import click

from wexicon.cli.show import emit_json

KINDS = ("result", "dialogue", "action", "hail", "rehearsal", "traffic", "unit", "port", "trace", "lexicon", "sheet")


@click.command()
@click.argument("kind", type=click.Choice(KINDS))
def schema(kind: str) -> None:
    """Print the JSON Schema of what KIND is: a result that --json prints, a trace record, a lexicon file or a sheet."""
    from wexicon.work.results.schemas import schema_of

    emit_json(schema_of(kind))
