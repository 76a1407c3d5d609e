"""`wexicon talk`: a conversation with a module, in a console or through a pipe.

The rule: in a pipe both sides of the conversation go to standard output, each line with its time, and nothing else does.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    Working,
    ask_secret,
    env_option,
    file_option,
    gather_given,
    gathered,
    named_lexicon,
    require_showable,
    show_option,
    tell_stored,
)
from wexicon.cli.show import emit, emit_json, line_of, print_note, print_warning, styled
from wexicon.core.faults import CallFault, Fault
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.text import one_of
from wexicon.core.tuning import FLOWS

# How long a far side may take to pass the last line of a pipe on (seconds).
LAST_WORDS = 1.0

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.link import Link
    from wexicon.core.results.functions import TalkLine
    from wexicon.work.console.conversation import Talk
    from wexicon.work.console.sides import Sides
    from wexicon.work.contact.sessions import Setup


class TalkCall(msgspec.Struct):
    """The options of `talk`."""

    ports: tuple[str, ...]
    lexicon_names: tuple[str, ...]
    as_is: bool
    in_data: bool
    end: str | None
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    shown: tuple[str, ...]
    how: Working


class TalkSide(msgspec.Struct, kw_only=True):
    """One side of the window: its name, port and lexicon, and its line end if that is not the lexicon's."""

    name: str
    number: int
    port: str
    lexicon: Lexicon | None
    end: str | None
    known: bool


@click.command(cls=Command)
@click.argument("ports", metavar="PORT [PORT]", nargs=-1, required=True)
@click.option(
    "--lexicon",
    "-l",
    "lexicon_names",
    multiple=True,
    help="Lexicon, by name or file; with two ports once for both, or once for each.  [detected]",
)
@click.option("--as-is", is_flag=True, help="Do not enter command mode first.")
@click.option(
    "--data",
    "in_data",
    is_flag=True,
    help="Data mode: what is typed is passed on as it is, and nothing needs to answer.",
)
@click.option("--end", type=click.Choice(list(LINE_ENDS)), help="Line ending.  [the lexicon's, or crlf]")
@env_option
@file_option
@show_option
@gathered(TalkCall)
def talk(call: TalkCall) -> None:
    """Talk to the module on PORT: lines you type are said; incoming data is shown and decoded.

    Examples:
      wexicon talk /dev/ttyUSB0
      wexicon talk plug=/dev/ttyUSB0 handset=/dev/ttyUSB1

    With two ports, PORT PORT or NAME=PORT NAME=PORT, both share one window. `NAME: line` is for that side, any other for
    the one that has the turn; Ctrl-T gives it to the other.

    `:` starts a console command (:help lists them); `::` says a line that starts with a colon. Through a pipe each line
    waits for the answer to the one before, and both are printed with their times. Exit status: 1 if a line was
    refused, not answered, or answered with garbage.
    """
    raise click.exceptions.Exit(_talk(call, _sides(call)))


def _sides(call: TalkCall) -> list[TalkSide]:
    """The sides of the window. Raises Fault."""
    from wexicon import api
    from wexicon.work.console.sides import named_ports
    from wexicon.work.contact.ports import remembered

    pairs = named_ports(call.ports)
    names = [*call.lexicon_names] * (len(pairs) if len(call.lexicon_names) == 1 else 1)
    if names and len(names) != len(pairs):
        raise CallFault("one lexicon for each port, or one for all", hint="Name --lexicon once, or once for each port.")
    if len(pairs) > 1 and call.how.trace_path:
        raise CallFault("--trace cannot be used with two ports: each gets a dated trace", hint="Remove --trace.")
    made = []
    for number, (name, given) in enumerate(pairs):
        port = api.port_named(given)
        known = remembered(port)
        lexicon = named_lexicon(names[number], Path()) if names else api.stored_lexicon(port)
        if lexicon and not names:
            tell_stored(lexicon)
        end = call.end or (known.end if known and lexicon is None else None) or None
        place = number + 1 if len(pairs) > 1 else 0
        made.append(
            TalkSide(name=name, number=place, port=port, lexicon=lexicon, end=end, known=bool(lexicon or known))
        )
    if len({one.port for one in made}) < len(made):
        raise CallFault("both sides are the same port")
    return made


def _talk(call: TalkCall, all_: list[TalkSide]) -> int:
    from wexicon.core.results.functions import TalkEnd
    from wexicon.work.console.sides import Sides

    in_console = sys.stdin.isatty() and sys.stdout.isatty() and not call.how.as_json
    for name in call.shown:
        having = next((one.lexicon for one in all_ if one.lexicon and name in one.lexicon.settings), all_[0].lexicon)
        require_showable([name], having, as_json=call.how.as_json)
    typing: AbstractContextManager[None] = nullcontext()
    console, show = None, _json_line if call.how.as_json else _plain_line
    if in_console:
        from wexicon.cli.console import Console
        from wexicon.system import unechoed

        console, typing = Console(), unechoed()
        show = console.show
    ask = console.ask if console else ask_secret()
    with ExitStack() as stack:
        stack.enter_context(typing)
        setup = stack.enter_context(call.how.working("talk", quiet=True, heeds_stop=False))
        talks = [_open(stack, one, call, setup, show, ask) for one in all_]
        sides = Sides(talks)
        if console:
            try:
                console.run(sides, _greeting(all_, talks))
            finally:
                for one in talks:
                    print_note(f"trace: {one.trace}; wexicon trace dialogue makes a dialogue of it")
        else:
            _through_pipe(sides)
        if call.how.as_json:
            for one in talks:
                emit_json(TalkEnd(one.state.told(one.session.clock.now()), one.name), indent=0)
    return 1 if sides.failures and not console else 0


def _open(
    stack: ExitStack,
    side: TalkSide,
    call: TalkCall,
    setup: Setup,
    show: Callable[[TalkLine], None],
    ask: Callable[[str], str] | None,
) -> Talk:
    """The conversation of one side, ready to begin, open until the stack ends. Raises Fault."""
    from wexicon import api
    from wexicon.work.console.conversation import Talk

    lexicon = side.lexicon
    own = msgspec.structs.replace(setup, trace=setup.trace_for(f"talk-{side.name}" if side.name else "talk"))
    reopen = _reopener(side.port, own.flow or (lexicon.flow if lexicon else FLOWS[0]))
    assert own.trace
    made = Talk(lexicon, show, trace=own.trace, ask=ask, reopen=reopen, name=side.name, number=side.number)
    made.reveals = frozenset(call.shown)
    given = gather_given(lexicon, call.env_pairs, call.file_pairs)
    opening = api.Opening(title="talk", dialect=_dialect(lexicon, side.end))
    opened = api.talk_session(side.port, lexicon, own.heard_by(made), opening, given)
    session, module, links = stack.enter_context(opened)
    made.attach(session, module)
    made.muted = True
    if call.in_data:
        session.tune(next(iter(links), session.link.tuning))
        made.begin_data()
    elif module and not call.as_is:
        # A rate that was asked for is not where it answered last.
        module.attention.gain(links, known=not (own.rate or own.frame))
    made.muted = False
    return made


def _greeting(all_: list[TalkSide], talks: list[Talk]) -> list[str]:
    """The first lines of the console."""
    told = []
    for side, talk in zip(all_, talks, strict=True):
        family = f", {one_of(side.lexicon.about.family)}" if side.lexicon else ""
        name = f"{side.name}: " if side.name else ""
        told.append(f"{name}{side.port} at {talk.session.link.tuning}{family}.")
        if not side.known:
            told.append(f"No link stored for this port; wexicon hail {side.port} detects rate and lexicon.")
    keys = ":help lists what can be typed; Ctrl-D ends."
    if all_[0].name:
        return [*told, f"{all_[0].name}: LINE is for that side, Ctrl-T gives the turn to the other. {keys}"]
    told[0] += f" {keys}"
    return told


def _through_pipe(sides: Sides) -> None:
    """Says the lines of standard input. Raises what ended a conversation."""
    failed: list[BaseException] = []

    def work(talk: Talk) -> None:
        try:
            talk.run(talk.session, talk.module)
        except BaseException as fault:  # told by the thread that waits for this one
            failed.append(fault)
            sides.end()

    threading.Thread(target=_lines_in, args=(sides,), name="stdin", daemon=True).start()
    others = [threading.Thread(target=work, args=(talk,), name="talk", daemon=True) for talk in sides.talks[1:]]
    for one in others:
        one.start()
    sides.talks[0].run(sides.talks[0].session, sides.talks[0].module)
    for one in others:
        one.join()
    if failed:
        raise failed[0]


def _dialect(lexicon: Lexicon | None, end: str | None) -> Dialect:
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.speech import Speech

    dialect = lexicon.dialect if lexicon else Dialect(Speech())
    return dialect.with_end(end) if end else dialect


def _lines_in(sides: Sides) -> None:
    """Takes the lines as they come: what a module sends meanwhile is heard at its time."""
    try:
        for line in sys.stdin:
            sides.put_in_order(line.rstrip("\r\n"))
        if len(sides.talks) > 1 or sides.now.in_data:
            # What the far side makes of the last line is shown too.
            sides.now.settle()
            threading.Event().wait(LAST_WORDS)
    finally:
        sides.end()


def _plain_line(shown: TalkLine) -> None:
    """Both sides of the conversation on standard output; errors and notes on standard error."""
    if shown.mark in (">", ">>", "<", "~"):
        emit(line_of(shown))
    elif shown.mark in ("!", "="):
        print_warning(styled(shown.text, "magenta" if shown.mark == "!" else ""))


def _json_line(shown: TalkLine) -> None:
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
