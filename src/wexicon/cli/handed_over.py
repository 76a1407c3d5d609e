"""`wexicon units secrets`: the generated secrets of a hand-over file, for those who have its password.

The rule: a secret is printed here and on labels, where it was asked for by name, and nowhere else.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Command
from wexicon.cli.options import ask_secret
from wexicon.cli.show import emit_json, force_option, json_option, print_line, print_table
from wexicon.cli.values import env_option, file_option, split_pairs
from wexicon.core.faults import CallFault
from wexicon.core.text import counted
from wexicon.files import write_new

if TYPE_CHECKING:
    from wexicon.records.sealed import HandedOver

_COLUMNS = ("module", "unit", "sheet", "setting", "value", "drawn (UTC)")


@click.command(cls=Command)
@click.argument("path", metavar="FILE", type=click.Path(path_type=Path))
@click.option("--unit", "unit", help="Only this unit, by its identity or its name in a sheet.")
@click.option("--output", "-o", type=click.Path(path_type=Path), help="Write them to this .csv file instead.")
@env_option
@file_option
@force_option
@json_option
def secrets(
    path: Path,
    unit: str | None,
    output: Path | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    force: bool,
    as_json: bool,
) -> None:
    """Print the secrets that were drawn for the units of a sheet, from its hand-over FILE.

    Examples:
      wexicon units secrets handed-over.jsonl
      wexicon units secrets handed-over.jsonl --unit "mast M2"

    Whether a module took its secret is in the register: wexicon units show.
    Its password is asked for; --env password=VARIABLE and --file password=PATH take it from elsewhere.
    """
    found = [one for one in secrets_in(path, env_pairs, file_pairs) if unit in (None, one.unit, one.name)]
    if not found:
        raise CallFault("has no secret of this unit", where=str(path))
    rows = [(one.unit, one.name, one.sheet, one.setting, one.value, one.at[:19].replace("T", " ")) for one in found]
    if output:
        from wexicon.records.csv_file import csv_text

        if output.suffix != ".csv":
            raise CallFault("is not .csv", where=str(output))
        write_new(output, csv_text(_COLUMNS, rows), force=force)
        print_line(f"wrote {output}: {counted(len(rows), 'secret')}")
    elif as_json:
        emit_json(found)
    else:
        print_table(_COLUMNS, rows)


def secrets_in(path: Path, env_pairs: Sequence[str], file_pairs: Sequence[str]) -> list[HandedOver]:
    """The secrets of a hand-over file, whose password comes as the call says. Raises CallFault."""
    from wexicon.records.sealed import HandOverFile
    from wexicon.work.contact.secret_sources import secrets_for

    if not path.exists():
        raise CallFault("there is no such file", where=str(path))
    pairs = [("env", one) for one in env_pairs] + [("file", one) for one in file_pairs]
    kind, text = "prompt", f"password of {path.name}"
    for given, pair in pairs:
        ((name, text),) = split_pairs([pair]).items()
        kind = given
        if name != "password":
            raise CallFault(f"{name} is not needed here", hint="Only password is.")
    try:
        return HandOverFile(path, secrets_for(Path(), ask_secret())(kind, text)).secrets()
    except ValueError as fault:
        raise CallFault(f"the password: {fault}") from None
