"""`wexicon talk`: typing to a module by hand, in a console or through a pipe.

The rule: in a pipe what the module says goes to standard output, a line for a line, and nothing else does.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.options import ask_secret, lexicon_option
from wexicon.cli.show import styled
from wexicon.cli.working import Working, works_a_module
from wexicon.core.faults import Fault
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.tuning import FLOWS

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.protocol.link import Link
    from wexicon.work.console.conversation import Shown, Talk


@click.command()
@click.argument("port")
@lexicon_option
@click.option("--as-is", is_flag=True, help="Skip the lexicon's attention procedure.")
@click.option("--end", type=click.Choice(list(LINE_ENDS)), help="Line end.  [default: the lexicon's, or crlf]")
@works_a_module
def talk(port: str, lexicon_name: str | None, as_is: bool, end: str | None, how: Working, as_json: bool) -> None:
    """Talk to the module on PORT: lines you type are said; incoming data is shown and decoded.

    `:` starts a console command (:help lists them); `::` says a line that starts with a colon. Through a pipe each line
    waits for the answer to the one before. Exit status: 1 if a line was refused or not answered.
    """
    from wexicon.work.contact.catalog import find_lexicon, lexicon_for
    from wexicon.work.contact.known_links import remembered
    from wexicon.work.contact.ports import port_named

    port = port_named(port)
    known = remembered(port)
    lexicon = lexicon_for(lexicon_name, Path()) if lexicon_name else None
    if lexicon is None and known and known.lexicon:
        lexicon = find_lexicon(known.lexicon)
    end = end or (known.end if known and lexicon is None else None) or None
    raise click.exceptions.Exit(_talk(port, lexicon, how, as_is=as_is, end=end, as_json=as_json))


def _talk(port: str, lexicon: Lexicon | None, how: Working, *, as_is: bool, end: str | None, as_json: bool) -> int:
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.speech import Speech
    from wexicon.core.tuning import Tuning
    from wexicon.work.console.conversation import Talk

    in_console = sys.stdin.isatty() and sys.stdout.isatty() and not as_json
    hands = how.hands_and_links(lexicon, port)
    links = hands[1]
    factory = (lexicon.attention.tuning or lexicon.factory) if lexicon else Tuning()
    dialect = lexicon.dialect if lexicon else Dialect(Speech())
    if end:
        dialect = dialect.with_end(end)
    typing: AbstractContextManager[None] = nullcontext()
    if in_console:
        from wexicon.cli.console import Console, unechoed

        console, typing = Console(lexicon, port), unechoed()
        show = console.show
    else:
        console, show = None, _json_line if as_json else _plain_line
    reopen = _reopener(port, how.flow or (lexicon.flow if lexicon else FLOWS[0]))
    made = Talk(lexicon, show, trace=how.trace("talk"), ask=console.ask if console else ask_secret(), reopen=reopen)
    tuning = links[0] if links else factory
    with (
        typing,
        how.session(
            port, lexicon, "talk", dialect=dialect, tuning=tuning, quiet=True, listener=made, heeds_stop=False
        ) as (session, operator),
        how.module_on(session, operator, port, lexicon, hands) if lexicon else nullcontext() as module,
    ):
        made.session = session
        if module and not as_is:
            made.muted = True
            module.attention.gain(links)
            made.muted = False
        if console:
            console.run(made, session, module, known=bool(lexicon or links))
        else:
            _lines_in(made)
            made.run(session, module)
    if console:
        click.echo(f"trace: {how.trace_path}; wexicon trace dialogue makes a dialogue of it", err=True)
        return 0
    return 1 if made.failures else 0


def _lines_in(made: Talk) -> None:
    for line in sys.stdin:
        made.put(line.rstrip("\r\n"))
    made.end()


def _plain_line(shown: Shown) -> None:
    """What the module said on standard output; what went wrong on standard error."""
    if shown.mark == "<":
        click.echo(shown.text)
    elif shown.mark in ("!", "="):
        click.echo(styled(shown.text, "yellow" if shown.mark == "!" else ""), err=True)


def _json_line(shown: Shown) -> None:
    import msgspec

    click.echo(msgspec.json.encode(shown).decode())


def _reopener(port: str, flow: str) -> Callable[[Link], Link]:
    """Opens the port again, under whatever path it has now."""
    from wexicon.core.faults import LinkFault
    from wexicon.links.port import open_port
    from wexicon.work.contact.ports import found_ports, key_of

    key = key_of(port)

    def reopen(before: Link) -> Link:
        path = next((one.port for one in found_ports() if key and one.key == key), port)
        try:
            return open_port(path, before.tuning, flow)
        except LinkFault:
            raise
        except Fault as fault:
            raise LinkFault(fault.what, where=path) from None

    return reopen
