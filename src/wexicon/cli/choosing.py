"""The lexicon for the module on a port: named, remembered, or found by `hail`.

The rule: nobody has to know which; what is found so is told, and remembered.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import click

from wexicon.cli.hail import hail_port, print_hail
from wexicon.cli.show import styled
from wexicon.cli.working import Working
from wexicon.core.faults import CallFault, Fault, Unreachable
from wexicon.core.formats.lexicon import Lexicon
from wexicon.work.finding import find_lexicon, lexicon_for
from wexicon.work.memory import remembered


def lexicon_of(name: str | None, port: str, how: Working, beside: Path) -> Lexicon:
    """The lexicon that was named, or the one that is remembered for the port, or the one that `hail` finds. Raises Fault."""
    if name:
        return lexicon_for(name, beside)
    known = remembered(port)
    if known and known.lexicon:
        with suppress(Fault):
            return find_lexicon(known.lexicon)
    trace, how.trace_path = how.trace_path, None
    result = hail_port(port, None, how, quiet=True)
    how.trace_path = trace
    if not result.lexicons:
        click.echo(styled("The lexicon that fits was looked for, since none was named.", "bold"), err=True)
        print_hail(result)
        hint = "Name the lexicon: --lexicon NAME (wexicon lexicon list lists them), or draft one: wexicon lexicon draft PORT."
        if result.found:
            raise CallFault("no lexicon fits this module", where=port, hint=hint)
        raise Unreachable("no module was found", where=port, hint=hint)
    click.echo(f"hail: {result.family} at {result.rate} {result.frame}", err=True)
    return find_lexicon(result.lexicons[0])
