"""`wexicon talk`: a conversation with a module, in a console or through a pipe.

The rule: in a pipe both sides of the conversation go to standard output, each line with its time, and nothing else does.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.options import Working, ask_secret, gathered, lexicon_option
from wexicon.cli.show import emit, emit_json, print_note, styled
from wexicon.cli.talk_lines import line_of
from wexicon.cli.values import env_option, file_option, gather_given, named_lexicon, tell_stored
from wexicon.core.faults import Fault
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.tuning import FLOWS

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.link import Link
    from wexicon.work.console.conversation import Shown, Talk


class TalkCall(msgspec.Struct):
    """The options of `talk`."""

    port: str
    lexicon_name: str | None
    as_is: bool
    end: str | None
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command()
@click.argument("port")
@lexicon_option
@click.option("--as-is", is_flag=True, help="Skip the lexicon's attention procedure.")
@click.option("--end", type=click.Choice(list(LINE_ENDS)), help="Line ending.  [default: the lexicon's, or crlf]")
@env_option
@file_option
@gathered(TalkCall)
def talk(call: TalkCall) -> None:
    """Talk to the module on PORT: lines you type are said; incoming data is shown and decoded.

    `:` starts a console command (:help lists them); `::` says a line that starts with a colon. Through a pipe each line
    waits for the answer to the one before, and both are printed with their times. Exit status: 1 if a line was
    refused, not answered, or answered with garbage.
    """
    from wexicon import api
    from wexicon.work.contact.known_links import remembered

    call.port = api.port_named(call.port)
    known = remembered(call.port)
    lexicon = named_lexicon(call.lexicon_name, Path()) if call.lexicon_name else api.stored_lexicon(call.port)
    if lexicon and not call.lexicon_name:
        tell_stored(lexicon)
    call.end = call.end or (known.end if known and lexicon is None else None) or None
    raise click.exceptions.Exit(_talk(call, lexicon))


def _talk(call: TalkCall, lexicon: Lexicon | None) -> int:
    from wexicon import api
    from wexicon.work.console.conversation import Talk

    in_console = sys.stdin.isatty() and sys.stdout.isatty() and not call.how.as_json
    typing: AbstractContextManager[None] = nullcontext()
    console, show = None, _json_line if call.how.as_json else _plain_line
    if in_console:
        from wexicon.cli.console import Console, unechoed

        console, typing = Console(lexicon, call.port), unechoed()
        show = console.show
    given = gather_given(lexicon, call.env_pairs, call.file_pairs)
    opening = api.Opening(title="talk", dialect=_dialect(lexicon, call.end))
    with typing, call.how.working("talk", quiet=True, heeds_stop=False) as setup:
        setup.trace = setup.trace_for("talk")
        reopen = _reopener(call.port, setup.flow or (lexicon.flow if lexicon else FLOWS[0]))
        ask = console.ask if console else ask_secret()
        made = Talk(lexicon, show, trace=setup.trace, ask=ask, reopen=reopen)
        with api.talk_session(call.port, lexicon, setup.heard_by(made), opening, given) as (session, module, links):
            made.attach(session, module)
            if module and not call.as_is:
                made.muted = True
                module.attention.gain(links)
                made.muted = False
            if console:
                try:
                    console.run(made, session, module, known=bool(lexicon or links))
                finally:
                    print_note(f"trace: {setup.trace}; wexicon trace dialogue makes a dialogue of it")
            else:
                threading.Thread(target=_lines_in, args=(made,), name="stdin", daemon=True).start()
                made.run(session, module)
    return 1 if made.failures and not console else 0


def _dialect(lexicon: Lexicon | None, end: str | None) -> Dialect:
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.speech import Speech

    dialect = lexicon.dialect if lexicon else Dialect(Speech())
    return dialect.with_end(end) if end else dialect


def _lines_in(made: Talk) -> None:
    """Takes the lines as they come: what the module sends meanwhile is heard at its time."""
    try:
        for line in sys.stdin:
            made.put(line.rstrip("\r\n"))
    finally:
        made.end()


def _plain_line(shown: Shown) -> None:
    """Both sides of the conversation on standard output; errors and notes on standard error."""
    if shown.mark in (">", ">>", "<", "~"):
        emit(line_of(shown))
    elif shown.mark in ("!", "="):
        print_note(styled(shown.text, "yellow" if shown.mark == "!" else ""))


def _json_line(shown: Shown) -> None:
    emit_json(shown, indent=0)


def _reopener(port: str, flow: str) -> Callable[[Link], Link] | None:
    """Opens the port again, under whatever path it has now; None where nothing proves that it would be the same one."""
    from wexicon.core.faults import LinkFault
    from wexicon.links.port import open_port
    from wexicon.work.contact.ports import device_at

    find = device_at(port)
    if find is None:
        return None

    def reopen(before: Link) -> Link:
        path = find()
        if path is None:
            raise LinkFault("is gone", where=port)
        try:
            link = open_port(path, before.tuning, flow)
        except LinkFault:
            raise
        except Fault as fault:
            raise LinkFault(fault.what, where=path) from None
        if find() != path:
            link.close()
            raise LinkFault("was another device's when it was opened", where=path)
        return link

    return reopen
