"""The lexicon for the module on a port: named, remembered, or found by `hail`.

The rule: nobody has to know which; what is found so is told, and remembered.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import click

from wexicon.cli.hail import hail_port
from wexicon.cli.working import Working
from wexicon.core.faults import CallFault, Fault, Unreachable
from wexicon.core.formats.lexicon import Lexicon
from wexicon.work.contact.catalog import find_lexicon, lexicon_for
from wexicon.work.contact.known_links import remembered
from wexicon.work.results.discovery import HailResult


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
        raise _not_found(port, result)
    click.echo(f"hail: {result.family} at {result.rate} {result.frame}", err=True)
    return find_lexicon(result.lexicons[0])


def _not_found(port: str, result: HailResult) -> Fault:
    name = "Name the lexicon: --lexicon NAME; wexicon lexicon list lists them."
    if result.found:
        link = f"{result.rate} {result.frame}"
        what = f"a module answers at {link}; no lexicon matches"
        return CallFault(what, where=port, hint=f"{name} Or draft one: wexicon lexicon draft {port}")
    cause = result.cause
    told = [cause.next if cause else "", *(f"{one.lexicon}: {one.operator}" for one in result.by_hand), name]
    what = f"no module was found: {cause.what if cause else 'nothing answers'}"
    return Unreachable(what, where=port, hint="\n  ".join(filter(None, told)))
